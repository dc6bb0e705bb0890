package reconcile

import (
	"context"
	"errors"
	"fmt"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/store"
)

const (
	// errandGrace is how long after a start of the service an errand stays that
	// nobody was heard of: nobody could be.
	errandGrace = time.Minute
	// errandAgain is how long after a removal of one has failed it is tried again.
	errandAgain = time.Minute
)

// Errand has a workspace that is for one command go when its time comes.
func (k *Rest) Errand(e store.Errand) {
	k.due.Set("errand "+e.WorkspaceID, e.Ends(), func(ctx context.Context) error { return k.errandOver(ctx, e.WorkspaceID) })
}

// errands has all of them go when their time comes, after a start.
func (k *Rest) errands(ctx context.Context) error {
	all, err := k.store.Read().Errands(ctx)
	for _, e := range all {
		if soonest := k.now().Add(errandGrace); e.LeaseUntil.Before(soonest) {
			e.LeaseUntil = soonest
		}
		k.Errand(e)
	}
	return err
}

// errandOver removes a workspace that was for one command, with whatever is in it:
// nobody is there any more who could want it.
func (k *Rest) errandOver(ctx context.Context, id string) error {
	e, err := k.store.Read().ErrandOf(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	removing := false
	err = k.store.Write(store.About(ctx, id), func(tx *store.Tx) error {
		w, err := tx.WorkspaceByID(ctx, id)
		if err != nil {
			return err
		}
		if e, err = tx.ErrandOf(ctx, id); err != nil {
			return err
		}
		if e.Ends().After(tx.Now()) { // it was heard of meanwhile
			return nil
		}
		if w.Phase == lifecycle.Removed {
			return tx.EndErrand(ctx, id)
		}
		if w.Phase == lifecycle.Removing {
			return nil
		}
		why := "whoever asked for it was not heard of any more"
		if !e.MostUntil.After(tx.Now()) {
			why = "its time was over"
		}
		removing = true
		if err := tx.Journal(ctx, w.ID, w.OwnerID, "service", journal.ErrandOver{Why: why}); err != nil {
			return err
		}
		w.Wanted = lifecycle.WantRemoved
		if _, err := tx.OpenSheet(ctx, w.ID, lifecycle.RemoveSheet); err != nil {
			return err
		}
		return tx.SetPhase(ctx, &w, lifecycle.Removing, "service", why)
	})
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("remove what was for one command: %w", err)
	}
	if removing {
		k.keeper.Interrupt(id)
	}
	if at := k.now().Add(errandAgain); e.LeaseUntil.Before(at) { // until nothing is left of it
		e.LeaseUntil, e.MostUntil = at, at
	}
	k.Errand(e)
	return nil
}
