package store

import (
	"testing"

	"yardbench/internal/core/lifecycle"
)

// A plan's runs are numbered, one that has ended stays as it ended, and a run
// that serves a workspace is known to be in use.
func TestPrebuildRuns(t *testing.T) {
	s := populated(t)
	ctx := t.Context()
	for _, id := range []string{"b1", "b2"} {
		launched(t, s, id, "p1", ForPrebuild)
	}
	launched(t, s, "user", "p1", ForPerson)
	err := s.Write(ctx, func(tx *Tx) error {
		if err := tx.PutPrebuildPlan(ctx, PrebuildPlan{ID: "plan", RepositoryID: "r1", Branch: "main", Keep: 2, MadeBy: "p1"}); err != nil {
			return err
		}
		for _, id := range []string{"1", "2"} {
			if err := tx.AddRun(ctx, &PrebuildRun{ID: "run" + id, PlanID: "plan", WorkspaceID: "b" + id}); err != nil {
				return err
			}
		}
		if err := tx.EndRun(ctx, "run1", Kept{"image", "sha256:1", "crew"}, lifecycle.Done, ""); err != nil {
			return err
		}
		if err := tx.EndRun(ctx, "run1", Kept{}, lifecycle.FailedStep, "too late"); err != nil {
			return err
		}
		if err := tx.EndRun(ctx, "run2", Kept{}, lifecycle.FailedStep, "broken"); err != nil {
			return err
		}
		w, err := tx.WorkspaceByID(ctx, "user")
		w.ChangeTarget(func(p *Plan) { p.Prepared = &Prepared{Run: "run1", Number: 1} })
		if err == nil {
			err = tx.SaveWorkspace(ctx, w)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	good, err := s.Read().GoodRuns(ctx, "r1", "main")
	if err != nil || len(good) != 1 || good[0].ID != "run1" || good[0].Image != "image" || good[0].Number != 1 {
		t.Errorf("good are %+v, %v", good, err)
	}
	for except, want := range map[string]bool{"": true, "user": false} {
		if used, err := s.Read().PreparedInUse(ctx, "run1", except); err != nil || used != want {
			t.Errorf("in use but for %q: %v, %v", except, used, err)
		}
	}
	if used, err := s.Read().PreparedInUse(ctx, "run2", ""); err != nil || used {
		t.Errorf("a run nobody uses is in use: %v, %v", used, err)
	}
}
