package service

import (
	"fmt"
	"testing"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/store"
)

// Each is handed what is theirs to see, and nobody is handed what is not; who
// may not watch any more as they did, and who does not keep up, is let go.
func TestFeed(t *testing.T) {
	s, _, _ := bare(t)
	ctx := t.Context()
	s.rooms.Store.OnJournal(func() { s.rooms.Bus.Publish("") })
	write := func(do func(tx *store.Tx) error) {
		t.Helper()
		if err := s.rooms.Store.Write(ctx, do); err != nil {
			t.Fatal(err)
		}
	}
	people := map[string]Actor{}
	write(func(tx *store.Tx) error {
		for _, id := range []string{"t1", "t2"} {
			if err := tx.AddTeam(ctx, store.Team{ID: id, Name: id}); err != nil {
				return err
			}
		}
		for _, p := range []store.Person{{ID: "dev", Name: "bo", Role: policy.Developer, TeamID: "t1"}, {ID: "lead", Name: "runa", Role: policy.Lead, TeamID: "t1"},
			{ID: "other", Name: "liam", Role: policy.Lead, TeamID: "t2"}, {ID: "op", Name: "karin", Role: policy.Operator}} {
			if err := tx.AddPerson(ctx, p); err != nil {
				return err
			}
			people[p.ID] = Actor{Person: p, TokenID: "token-" + p.ID}
		}
		return nil
	})
	w := addWorkspace(t, s, people["dev"], "quay", lifecycle.Ready)
	watches := map[string]*Watch{}
	for id, a := range people {
		one, err := s.Feed.Watch(ctx, a)
		if err != nil {
			t.Fatal(err)
		}
		defer one.Close()
		watches[id] = one
	}
	said := func(id string) (out []string) {
		for {
			select {
			case n, ok := <-watches[id].C:
				switch {
				case !ok:
					return append(out, "closed")
				case n.Entry != nil:
					out = append(out, n.Entry.Kind)
				default:
					out = append(out, "change of "+n.Change)
				}
			case <-time.After(300 * time.Millisecond):
				return out
			}
		}
	}
	write(func(tx *store.Tx) error {
		return tx.Journal(ctx, w.ID, "dev", "dev", journal.WorkspaceHeld{})
	})
	write(func(tx *store.Tx) error { return tx.Journal(ctx, "2", "", "op", journal.RulesPut{}) })
	s.rooms.Bus.Publish(w.ID)
	for id, want := range map[string]string{"dev": "[workspace.held change of " + w.ID + "]", "lead": "[workspace.held change of " + w.ID + "]", "other": "[]", "op": "[workspace.held rules.put change of " + w.ID + "]"} {
		if got := fmt.Sprint(said(id)); got != want {
			t.Errorf("%s is told %s, not %s", id, got, want)
		}
	}
	for range newsKept + 10 {
		write(func(tx *store.Tx) error {
			return tx.Journal(ctx, w.ID, "dev", "dev", journal.WorkspaceHeld{})
		})
	}
	time.Sleep(300 * time.Millisecond)
	if got := said("dev"); len(got) != newsKept+1 || got[newsKept] != "closed" {
		t.Errorf("who does not keep up is told %d things", len(got))
	}
	for _, one := range watches {
		one.Close()
	}
	if s.Feed.feed.end != nil || len(s.Feed.feed.subs) != 0 {
		t.Error("it goes on with nobody there")
	}
}
