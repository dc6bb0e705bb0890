package reconcile

import (
	"context"
	"fmt"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/store"
)

// expire removes a workspace that was stopped too long, unless work in it
// exists nowhere else.
func (k *Rest) expire(ctx context.Context, id string) error {
	var w store.Workspace
	err := k.store.Write(store.About(ctx, id), func(tx *store.Tx) (err error) {
		if w, err = tx.WorkspaceByID(k.ctx, id); err != nil || w.Phase != lifecycle.Stopped {
			return err
		}
		at, err := k.RemovesAt(k.ctx, tx.Q, w)
		if err != nil || at.After(tx.Now()) {
			return err // it was used, or the rules changed meanwhile
		}
		if w.SeededVolume > 0 && (w.Work == nil || !w.Work.Clean()) {
			return tx.SetCondition(k.ctx, w, lifecycle.UnpushedWork, "it would have been removed on "+k.house.Local(k.ctx, tx.Q, k.now(), at)+": "+Unsafe(w))
		}
		if err := tx.Journal(k.ctx, w.ID, w.OwnerID, "service", journal.WorkspaceExpired{StoppedAt: w.PhaseAt}); err != nil {
			return err
		}
		w.Wanted = lifecycle.WantRemoved
		if _, err := tx.OpenSheet(k.ctx, w.ID, lifecycle.RemoveSheet); err != nil {
			return err
		}
		return tx.SetPhase(k.ctx, &w, lifecycle.Removing, "service", "it was stopped for longer than the house rules keep it")
	})
	if err != nil {
		return fmt.Errorf("remove what was stopped too long: %w", err)
	}
	switch w.Phase {
	case lifecycle.Removing:
		k.keeper.Wake(id)
	case lifecycle.Stopped:
		at, err := k.RemovesAt(ctx, k.store.Read(), w)
		if err != nil {
			return err
		}
		k.due.Set("keep "+id, later(at, k.now().Add(time.Hour)), func(ctx context.Context) error { return k.expire(ctx, id) })
	}
	return nil
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// RemovesAt is when a stopped workspace is removed, if nothing in it exists
// nowhere else.
func (k *Rest) RemovesAt(ctx context.Context, q store.Q, w store.Workspace) (time.Time, error) {
	r, _, err := k.house.Rules(ctx, q)
	return r.RemovesAt(w.PhaseAt), err
}
