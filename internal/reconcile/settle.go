package reconcile

import (
	"context"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
)

// settled is called when there is nothing more to do for a workspace: what is
// due by the clock is set.
func (k *Keeper) settled(id string) error {
	w, err := k.Store.Read().WorkspaceByID(k.ctx, id)
	if err != nil {
		return err
	}
	if w.Kind == store.ForPrebuild {
		if w.Phase == lifecycle.Removed {
			k.Images.runOver(w)
		}
		return nil
	}
	k.due.Drop("keep " + id)
	switch w.Phase {
	case lifecycle.Ready:
		if w.Plan.Adopted != nil && !k.Hub.Connected(outside.Link(w.ID, w.Body)) {
			k.Links.reach(w) // its container was started anew, say
		}
		k.Rest.rest(id)
		return k.Status.passing(k.ctx, id)
	case lifecycle.Stopped:
		if w.Plan.Adopted == nil {
			at, err := k.Rest.RemovesAt(k.ctx, k.Store.Read(), w)
			if err != nil {
				return err
			}
			k.due.Set("keep "+id, at, func(ctx context.Context) error { return k.Rest.expire(ctx, id) })
		}
	}
	k.due.Drop("rest " + id)
	k.board.Drop(id)
	return nil
}

// Rejudge has every workspace judged anew: the rules changed.
func (k *Keeper) Rejudge(ctx context.Context) error {
	k.mu.Lock()
	runs := k.working != nil
	k.mu.Unlock()
	if !runs {
		return nil // Run judges all
	}
	k.due.Set("logs", k.Now(), k.Logs.clearLogs)
	all, err := k.Store.Read().PeoplesWorkspaces(ctx, store.Scope{})
	if err != nil {
		return err
	}
	_, version, err := k.House.Rules(ctx, k.Store.Read())
	if err != nil {
		return err
	}
	k.Followers.rulesChanged(version)
	for _, w := range all {
		if err := k.settled(w.ID); err != nil {
			return err
		}
	}
	return nil
}

// entered enters a phase, and sets or ends the conditions that go with it.
func (k *Keeper) entered(tx *store.Tx, w *store.Workspace, p lifecycle.Phase, cause string) error {
	from := w.Phase
	if p == lifecycle.Ready {
		w.Work = nil
	}
	if err := tx.SetPhase(k.ctx, w, p, "service", cause); err != nil {
		return err
	}
	switch {
	case p == lifecycle.Stopped:
		if err := tx.ClearConditions(k.ctx, *w, lifecycle.IdleNow, lifecycle.Held, lifecycle.SecretsChanged, lifecycle.StewardAway, lifecycle.OutOfMemory, lifecycle.DiskFull, lifecycle.PushWaits, lifecycle.PushAllowed, lifecycle.SecretAsked); err != nil {
			return err
		}
		if w.SeededVolume > 0 && from == lifecycle.Stopping && w.Work != nil && !w.Work.Clean() {
			return tx.SetCondition(k.ctx, *w, lifecycle.UnpushedWork, Unsafe(*w))
		}
	case p == lifecycle.Removed:
		return tx.EndErrand(k.ctx, w.ID)
	case p == lifecycle.Ready:
		return tx.ClearCondition(k.ctx, *w, lifecycle.UnpushedWork)
	}
	return nil
}
