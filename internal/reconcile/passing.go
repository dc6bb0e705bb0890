package reconcile

import (
	"context"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/session"
	"yardbench/internal/store"
)

// lasts is how long a condition stands that ends by itself.
var lasts = map[lifecycle.ConditionKind]time.Duration{
	lifecycle.OutOfMemory: time.Hour,
	lifecycle.PushAllowed: session.PushFor,
}

// passing ends the conditions of a workspace whose time is over, and looks again
// when that of another is.
func (k *Status) passing(ctx context.Context, id string) error {
	conditions, err := k.store.Read().Conditions(ctx, id)
	if err != nil {
		return err
	}
	for _, c := range conditions {
		long, ends := lasts[c.Kind]
		if !ends {
			continue
		}
		if at := c.Since.Add(long); at.After(k.now()) {
			k.due.Set(string(c.Kind)+" "+id, at, func(ctx context.Context) error { return k.passing(ctx, id) })
			continue
		}
		err := k.store.Write(store.About(ctx, id), func(tx *store.Tx) error {
			w, err := tx.WorkspaceByID(ctx, id)
			if err != nil {
				return err
			}
			return tx.ClearCondition(ctx, w, c.Kind)
		})
		if err != nil {
			return err
		}
		k.bus.Publish(id)
	}
	return nil
}
