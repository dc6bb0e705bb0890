package reconcile

import (
	"context"
	"errors"
	"fmt"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/steward/outside"
)

// connect waits for the body's steward.
func (d *doing) connect(ctx context.Context) error {
	if d.w.Plan.Adopted != nil {
		d.links.reach(d.w)
	}
	ctx, cancel := context.WithTimeout(ctx, stewardTimeout)
	defer cancel()
	err := d.hub.Await(ctx, outside.Link(d.w.ID, d.body))
	if errors.Is(err, outside.ErrAway) && ctx.Err() == context.DeadlineExceeded {
		o, oerr := d.yard.Observe(context.WithoutCancel(ctx), d.w.ID)
		if oerr == nil && o.Bodies[d.body] != lifecycle.Running {
			return fmt.Errorf("the container ended before its steward connected: %s", o.Ends[d.body])
		}
		if d.w.Plan.Adopted != nil {
			return fmt.Errorf("%w, for %s", err, stewardTimeout)
		}
		return fmt.Errorf("the steward did not connect within %s; see the container's own log in the engine", stewardTimeout)
	}
	return err
}
