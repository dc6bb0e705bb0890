package reconcile

import (
	"fmt"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/rules"
	"yardbench/internal/store"
)

// starved notes that something in a workspace was ended for want of memory.
// Whoever only sees "Killed" in a terminal would look for the cause elsewhere.
func (k *Status) starved(id string) error {
	err := k.store.Write(store.About(k.ctx, id), func(tx *store.Tx) error {
		w, err := tx.WorkspaceByID(k.ctx, id)
		if err != nil || w.Phase.Settled() && w.Phase != lifecycle.Ready {
			return err
		}
		reason := fmt.Sprintf("something in it was ended at %s, as it wanted more than the %s of memory of its size; end what is not needed, or launch one of a larger size", k.house.Local(k.ctx, tx.Q, k.now(), tx.Now()), rules.Bytes(w.MemoryBytes))
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
	k.bus.Publish(id)
	return err
}
