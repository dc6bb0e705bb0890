package service

import (
	"errors"
	"slices"
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
	// What somebody is told: at least so many things, however long a busy
	// machine takes for them, and whatever comes after until it is quiet.
	said := func(id string, atLeast int) (out []string) {
		deadline := time.Now().Add(20 * time.Second)
		for {
			select {
			case n, ok := <-watches[id].C:
				switch {
				case !ok:
					return append(out, "closed")
				case n.Entry != nil:
					out = append(out, n.Entry.Kind)
				case n.Row != nil:
					out = append(out, "row of "+n.Row.Name+", "+n.Row.Phase)
				case n.Gone != "":
					out = append(out, "gone "+n.Gone)
				default:
					out = append(out, "change of "+n.Change)
				}
			case <-time.After(300 * time.Millisecond):
				if len(out) >= atLeast || time.Now().After(deadline) {
					return out
				}
			}
		}
	}
	write(func(tx *store.Tx) error {
		return tx.Journal(ctx, w.ID, "dev", "dev", journal.WorkspaceHeld{})
	})
	write(func(tx *store.Tx) error { return tx.Journal(ctx, "2", "", "op", journal.RulesPut{}) })
	s.rooms.Bus.Publish(w.ID)
	told := func(wanted map[string][]string) {
		t.Helper()
		for id, want := range wanted {
			got := said(id, len(want))
			slices.Sort(got) // a burst may be two
			slices.Sort(want)
			if !slices.Equal(got, want) {
				t.Errorf("%s is told %q, not %q", id, got, want)
			}
		}
	}
	now := []string{"workspace.held", "row of quay, ready", "change of " + w.ID}
	told(map[string][]string{"dev": slices.Clone(now), "lead": slices.Clone(now), "other": nil, "op": append(slices.Clone(now), "rules.put")})
	// Once for a burst; and what is removed stands in no list.
	write(func(tx *store.Tx) error {
		return errors.Join(tx.SetPhase(ctx, &w, lifecycle.Stopping, "dev", ""), tx.SetPhase(ctx, &w, lifecycle.Stopped, "service", ""))
	})
	told(map[string][]string{"dev": {"workspace.phase", "workspace.phase", "row of quay, stopped"}, "other": nil})
	rows, err := s.Feed.Rows(ctx, people["lead"], []string{w.ID, "none"})
	if err != nil || len(rows) != 1 || rows[w.ID].Phase != "stopped" {
		t.Errorf("who was away is told %+v, %v", rows, err)
	}
	if rows, err := s.Feed.Rows(ctx, people["other"], []string{w.ID}); err != nil || len(rows) != 0 {
		t.Errorf("who may not see it is told %+v, %v", rows, err)
	}
	write(func(tx *store.Tx) error {
		return errors.Join(tx.SetPhase(ctx, &w, lifecycle.Removing, "dev", ""), tx.SetPhase(ctx, &w, lifecycle.Removed, "service", ""))
	})
	told(map[string][]string{"dev": {"workspace.phase", "workspace.phase", "gone " + w.ID}, "other": nil})
	for range newsKept + 10 {
		write(func(tx *store.Tx) error {
			return tx.Journal(ctx, w.ID, "dev", "dev", journal.WorkspaceHeld{})
		})
	}
	there := func() bool {
		s.Feed.feed.mu.Lock()
		defer s.Feed.feed.mu.Unlock()
		return s.Feed.feed.subs[watches["dev"]]
	}
	for deadline := time.Now().Add(20 * time.Second); there() && time.Now().Before(deadline); {
		time.Sleep(10 * time.Millisecond)
	}
	if got := said("dev", newsKept+1); len(got) != newsKept+1 || got[newsKept] != "closed" {
		t.Errorf("who does not keep up is told %d things", len(got))
	}
	for _, one := range watches {
		one.Close()
	}
	if s.Feed.feed.end != nil || len(s.Feed.feed.subs) != 0 {
		t.Error("it goes on with nobody there")
	}
}
