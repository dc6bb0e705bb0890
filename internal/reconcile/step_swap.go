package reconcile

import (
	"context"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// swap puts the new body in the old one's place.
func (d *doing) swap(ctx context.Context) error {
	w := d.w
	d.goAlong(ctx)
	old, oldVolume, oldPlan := w.Body, w.Volume, w.Plan
	if err := tryFor(ctx, yardTimeout, func(ctx context.Context) error { return d.retire(ctx, old) }); err != nil {
		return err
	}
	if w.NextVolume > 0 {
		if err := tryFor(ctx, yardTimeout, func(ctx context.Context) error {
			return d.yard.Remove(ctx, yard.Part{Workspace: w.ID, Kind: yard.VolumePart, Number: oldVolume})
		}); err != nil {
			return err
		}
		delete(d.see().Volumes, oldVolume)
	}
	delete(d.see().Bodies, old)
	d.set = func(tx *store.Tx, w *store.Workspace) error {
		w.Plan, w.NextPlan = w.NextPlan, nil
		w.Body, w.NextBody = w.NextBody, 0
		if w.NextVolume > 0 {
			w.Volume, w.NextVolume = w.NextVolume, 0
		}
		for _, c := range []lifecycle.ConditionKind{lifecycle.SetUpFailed, lifecycle.RebuildDue} {
			if err := tx.ClearCondition(d.ctx, *w, c); err != nil {
				return err
			}
		}
		return tx.ClearCondition(d.ctx, *w, lifecycle.Rebuilding)
	}
	if oldPlan.Fingerprint == w.NextPlan.Fingerprint {
		return nil
	}
	return d.images.dropImage(ctx, w, *oldPlan)
}
