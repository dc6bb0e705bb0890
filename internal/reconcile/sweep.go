package reconcile

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// sweeper looks at the start for what nobody knows of.
type sweeper struct {
	hold    func(ctx context.Context) error
	setBack func(ctx context.Context) (bool, error)
	store   *store.Store
	yard    yard.Yard
}

// sweep looks once, at the start, for what the yard has of workspaces that the
// records do not have any more: the leavings of a call that was under way when
// the service was ended, or of records that were set back. Bodies and networks
// hold nobody's files and go. A volume goes with a workspace that was removed;
// one of which nothing is known is left where it is, and journalled once: only
// an operator takes it away.
func (k *sweeper) sweep(ctx context.Context) error {
	if k.hold != nil {
		for wait := time.Second; ; wait = min(2*wait, time.Minute) {
			err := k.hold(ctx)
			if err == nil {
				break
			}
			if errors.Is(err, yard.ErrClaimed) || ctx.Err() != nil {
				return err
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(wait):
			}
		}
		old, err := k.setBack(ctx)
		if err != nil {
			return err
		}
		if old {
			slog.Warn("the records are older than what the yard holds: nothing is taken away from it until an operator has said what becomes of what it does not know")
			return nil
		}
	}
	var ids []string
	if err := tryFor(ctx, yardTimeout, func(ctx context.Context) (err error) { ids, err = k.yard.Workspaces(ctx); return err }); err != nil {
		return err
	}
	kept, err := k.store.Read().KeptStrays(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for _, id := range ids { // a row is written before anything is made: who has none now has none
		w, err := k.store.Read().WorkspaceByID(ctx, id)
		switch {
		case err == nil && w.Phase != lifecycle.Removed:
			continue
		case err != nil && !errors.Is(err, store.ErrNotFound):
			return err
		}
		if _, ok := kept[id]; ok && err != nil {
			continue // an operator has looked, and has it stay as it is
		}
		if err := k.sweepOne(ctx, id, err == nil); err != nil {
			errs = append(errs, fmt.Errorf("what is left of %s: %w", id, err))
		}
	}
	return errors.Join(errs...)
}

func (k *sweeper) sweepOne(ctx context.Context, id string, removed bool) error {
	return tryFor(ctx, yardTimeout, func(ctx context.Context) error {
		o, err := k.yard.Observe(ctx, id)
		if err != nil {
			return err
		}
		if err := takeBodies(ctx, k.yard, id, o); err != nil {
			return err
		}
		if removed {
			return takeFiles(ctx, k.yard, id, o)
		}
		if len(o.Volumes) == 0 && !o.Named {
			return nil
		}
		told, err := k.store.Read().Journal(ctx, store.JournalFilter{Subject: id, Kind: "yard.quarantined", Limit: 1})
		if err != nil || len(told) > 0 {
			return err
		}
		slog.Warn("the yard holds files of a workspace that nothing is known of; they are left where they are until an operator says what becomes of them", "workspace", id)
		return k.store.Write(store.About(ctx, id), func(tx *store.Tx) error {
			return tx.Journal(ctx, id, "", "service", journal.YardQuarantined{Volumes: len(o.Volumes), Named: o.Named})
		})
	})
}
