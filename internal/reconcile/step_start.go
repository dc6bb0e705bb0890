package reconcile

import (
	"context"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// start starts the body, whose steward finds its link open. One that was made where the
// service was before goes, and is made anew here, with its files and its set-up.
func (d *doing) start(ctx context.Context) error {
	if d.see().Elsewhere[d.body] {
		if err := tryWhole(ctx, yardTimeout, func(ctx context.Context) error {
			return d.yard.Remove(ctx, yard.Part{Workspace: d.w.ID, Kind: yard.BodyPart, Number: d.body})
		}); err != nil {
			return err
		}
		delete(d.see().Bodies, d.body)
		delete(d.see().Elsewhere, d.body)
		d.set = func(_ *store.Tx, w *store.Workspace) error {
			if w.NextBody == 0 { // another number: its set-up has run in none of that number
				w.Body++
			}
			return nil
		}
		return errLookAgain
	}
	err := tryWhole(ctx, yardTimeout, func(ctx context.Context) error {
		if err := d.links.openLink(d.w, d.body); err != nil {
			return err
		}
		return d.yard.Start(ctx, d.w.ID, d.body)
	})
	if err == nil {
		d.see().Bodies[d.body] = lifecycle.Running
	}
	return err
}
