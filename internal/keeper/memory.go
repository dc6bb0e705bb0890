package keeper

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/rules"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// hungry is how long a workspace is said to have been out of memory.
const hungry = time.Hour

// told is called with what the yard tells of a workspace.
func (k *Keeper) told(id string, what yard.News) {
	if what == yard.OutOfMemory {
		k.Go(func(ctx context.Context) {
			if err := k.starved(id); err != nil && ctx.Err() == nil {
				slog.Error("note that a workspace is out of memory", "workspace", id, "error", err)
			}
		})
	}
	k.Wake(id)
}

// starved notes that something in a workspace was ended for want of memory.
// Whoever only sees "Killed" in a terminal would look for the cause elsewhere.
func (k *Keeper) starved(id string) error {
	err := k.Store.Write(store.About(k.ctx, id), func(tx *store.Tx) error {
		w, err := tx.WorkspaceByID(k.ctx, id)
		if err != nil || w.Phase.Settled() && w.Phase != lifecycle.Ready {
			return err
		}
		reason := fmt.Sprintf("something in it was ended at %s, as it wanted more than the %s of memory of its size; end what is not needed, or launch one of a larger size", k.local(tx.Q, tx.Now()), rules.Bytes(w.MemoryBytes))
		conditions, err := tx.Conditions(k.ctx, id)
		if err != nil {
			return err
		}
		for _, c := range conditions {
			if c.Kind == lifecycle.OutOfMemory && tx.Now().Sub(c.Since) < time.Minute {
				return nil // one that starves again and again is told of once a minute
			}
		}
		if err := tx.ClearCondition(k.ctx, w, lifecycle.OutOfMemory); err != nil {
			return err
		}
		return tx.SetCondition(k.ctx, w, lifecycle.OutOfMemory, reason)
	})
	k.Bus.Publish(id)
	return err
}

// fed ends the word of a workspace that was out of memory, an hour after it was.
func (k *Keeper) fed(ctx context.Context, id string) error {
	conditions, err := k.Store.Read().Conditions(ctx, id)
	if err != nil {
		return err
	}
	for _, c := range conditions {
		if c.Kind != lifecycle.OutOfMemory {
			continue
		}
		if at := c.Since.Add(hungry); at.After(k.Now()) {
			k.due.Set("memory "+id, at, func(ctx context.Context) error { return k.fed(ctx, id) })
			return nil
		}
		err := k.Store.Write(store.About(ctx, id), func(tx *store.Tx) error {
			w, err := tx.WorkspaceByID(ctx, id)
			if err != nil {
				return err
			}
			return tx.ClearCondition(ctx, w, lifecycle.OutOfMemory)
		})
		if err != nil {
			return err
		}
		k.Bus.Publish(id)
	}
	return nil
}
