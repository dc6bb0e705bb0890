package reconcile

import (
	"context"

	"yardbench/internal/core/lifecycle"
)

// start starts the body, whose steward finds its link open.
func (d *doing) start(ctx context.Context) error {
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
