package reconcile

import (
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/store"
)

// That something was ended for want of memory is told once a minute at most,
// and stands for an hour after the last time.
func TestOutOfMemory(t *testing.T) {
	b := newBench(t)
	starve := func() string {
		t.Helper()
		if err := b.Status.starved("w"); err != nil {
			t.Fatal(err)
		}
		if err := b.Status.passing(t.Context(), "w"); err != nil {
			t.Fatal(err)
		}
		_, kinds := b.workspace()
		return kinds[lifecycle.OutOfMemory]
	}
	first := starve()
	if !strings.Contains(first, "ended at 08:00") || !strings.Contains(first, "larger size") {
		t.Errorf("it is told as %q", first)
	}
	b.now = b.now.Add(30 * time.Second)
	if again := starve(); again != first {
		t.Errorf("half a minute later it is told again: %q", again)
	}
	b.now = b.now.Add(20 * time.Minute)
	if later := starve(); !strings.Contains(later, "08:20") {
		t.Errorf("20 minutes later it is %q", later)
	}
	for _, step := range []struct {
		after time.Duration
		want  bool
	}{{59 * time.Minute, true}, {2 * time.Minute, false}} {
		b.now = b.now.Add(step.after)
		if err := b.Status.passing(t.Context(), "w"); err != nil {
			t.Fatal(err)
		}
		if _, kinds := b.workspace(); (kinds[lifecycle.OutOfMemory] != "") != step.want {
			t.Errorf("%s later it stands: %v", step.after, kinds)
		}
	}
}

// What its owner allowed ends by itself.
func TestPushesAreAllowedForATime(t *testing.T) {
	b := newBench(t)
	b.write(func(tx *store.Tx) error {
		w, err := tx.WorkspaceByID(t.Context(), "w")
		if err != nil {
			return err
		}
		return tx.SetCondition(t.Context(), w, lifecycle.PushAllowed, "it may")
	})
	for _, step := range []struct {
		after time.Duration
		want  bool
	}{{14 * time.Minute, true}, {2 * time.Minute, false}} {
		b.now = b.now.Add(step.after)
		if err := b.Status.passing(t.Context(), "w"); err != nil {
			t.Fatal(err)
		}
		if _, kinds := b.workspace(); (kinds[lifecycle.PushAllowed] != "") != step.want {
			t.Errorf("%s later it stands: %v", step.after, kinds)
		}
	}
}
