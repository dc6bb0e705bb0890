package reconcile

import (
	"context"

	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// stop ends what runs; a rebuild under way is given up with it.
func (d *doing) stop(ctx context.Context) error {
	w := d.w
	d.goAlong(ctx)
	var work *store.WorkState
	if w.SeededVolume > 0 && w.Kind == store.ForPerson {
		// Nothing changes while it is stopped: what is seen now holds until the
		// next start, and decides whether it may be removed.
		state, err := d.rest.Look(ctx, w)
		if err != nil {
			return err
		}
		state.At = d.now().UTC()
		if work = &state; w.Work != nil && state.Problem != "" {
			work = w.Work // this stop goes on after a cut: it was looked at before
		}
	}
	err := tryFor(ctx, yardTimeout, func(ctx context.Context) error {
		if w.NextBody > 0 {
			if err := d.retire(ctx, w.NextBody); err != nil {
				return err
			}
			if w.NextVolume > 0 {
				if err := d.yard.Remove(ctx, yard.Part{Workspace: w.ID, Kind: yard.VolumePart, Number: w.NextVolume}); err != nil {
					return err
				}
			}
		}
		return d.yard.Stop(ctx, w.ID, w.Body, stopGrace)
	})
	if err != nil {
		return err
	}
	d.set = func(tx *store.Tx, w *store.Workspace) error {
		w.Work = work
		return endRebuild(d.ctx, tx, w)
	}
	*d.seen, err = d.yard.Observe(ctx, w.ID)
	return err
}
