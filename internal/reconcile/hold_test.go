package reconcile

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// While nobody can tell whose the yard is, a launch waits, and nothing is done in
// the yard, not even to clear up: it may be another's. Here there is none, and
// whoever calls it falls over.
func TestNothingIsTouchedInAYardThatMayBeAnothers(t *testing.T) {
	b := newBench(t)
	b.write(func(tx *store.Tx) error {
		return tx.AddWorkspace(t.Context(), &store.Workspace{ID: "w2", OwnerID: "p", Name: "pier", RepositoryID: "r", Phase: lifecycle.Waiting, Wanted: lifecycle.WantReady, Body: 1, Volume: 1,
			StewardToken: []byte{1}, PortKey: "k2", Plan: &store.Plan{}})
	})
	asked := 0
	b.Hold = func(context.Context) error { asked++; return fmt.Errorf("look for a claim: %w", yard.ErrAway) }
	if err := b.settle("w2", &work{}); !errors.Is(err, yard.ErrAway) || asked < 2 {
		t.Errorf("asked %d times it says %v", asked, err)
	}
	w, err := b.Store.Read().WorkspaceByID(t.Context(), "w2")
	if c, cerr := b.Store.Read().Conditions(t.Context(), "w2"); err != nil || cerr != nil || w.Phase != lifecycle.Waiting || len(c) != 1 || c[0].Kind != lifecycle.WaitsForYard {
		t.Errorf("it is %s with %+v, %v, %v", w.Phase, c, err, cerr)
	}
	// One that nobody waits for stays as it is.
	if err := b.settle("w", &work{}); !errors.Is(err, yard.ErrAway) {
		t.Errorf("it says %v", err)
	}
	if w, _ := b.workspace(); w.Phase != lifecycle.Ready {
		t.Errorf("one that is ready is %s", w.Phase)
	}
	b.Hold = func(context.Context) error { return yard.ErrClaimed }
	b.write(func(tx *store.Tx) error {
		return tx.AddWorkspace(t.Context(), &store.Workspace{ID: "w3", OwnerID: "p", Name: "mole", RepositoryID: "r", Phase: lifecycle.Waiting, Wanted: lifecycle.WantReady, Body: 1, Volume: 1,
			StewardToken: []byte{1}, PortKey: "k3", Plan: &store.Plan{}})
	})
	if err := b.settle("w3", &work{}); !errors.Is(err, yard.ErrClaimed) {
		t.Errorf("it says %v", err)
	}
	if w, _ := b.Store.Read().WorkspaceByID(t.Context(), "w3"); w.Phase != lifecycle.Waiting {
		t.Errorf("in another's yard a launch is %s", w.Phase)
	}
}
