package store

import (
	"reflect"
	"testing"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/rules"
)

// What is reserved is what stands in the rows: by person, by team, and nothing
// of prebuilds or of what was removed.
func TestReserved(t *testing.T) {
	s := populated(t)
	ctx := t.Context()
	for id, owner := range map[string]string{"a": "p1", "b": "p1", "c": "p2", "d": "p3"} {
		launched(t, s, id, owner, ForPerson)
	}
	launched(t, s, "e", "p1", ForPrebuild)
	err := s.Write(ctx, func(tx *Tx) error {
		w, err := tx.WorkspaceByID(ctx, "b")
		if err == nil {
			err = tx.SetPhase(ctx, &w, lifecycle.Stopping, "p1", "")
		}
		if err == nil {
			err = tx.SetPhase(ctx, &w, lifecycle.Stopped, "service", "")
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		scope             Scope
		existing, running int64
	}{{Scope{OwnerID: "p1"}, 2, 1}, {Scope{Teams: []string{"t1"}}, 3, 2}, {Scope{OwnerID: "p3"}, 1, 1}, {Scope{}, 4, 3}} {
		got, err := s.Read().Reserved(ctx, c.scope)
		want := rules.Amounts{rules.Existing: c.existing, rules.Running: c.running, rules.Cores: c.running * 1000, rules.Memory: c.running * 2 << 30}
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%+v holds %v, %v", c.scope, got, err)
		}
	}
}
