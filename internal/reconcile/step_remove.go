package reconcile

import (
	"context"

	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// remove takes everything of the workspace out of the yard, its files last.
func (d *doing) remove(ctx context.Context) error {
	w := d.w
	if w.Plan.Adopted != nil {
		return d.letGo(ctx)
	}
	d.goAlong(ctx)
	return tryFor(ctx, yardTimeout, func(ctx context.Context) error {
		o, err := d.yard.Observe(ctx, w.ID)
		if err != nil {
			return err
		}
		for n := range o.Bodies {
			if err := d.retire(ctx, n); err != nil {
				return err
			}
		}
		for _, n := range []int{w.Body, w.NextBody} {
			if err := d.hub.Close(outside.Link(w.ID, n)); err != nil {
				return err
			}
		}
		if err := d.yard.Remove(ctx, yard.Part{Workspace: w.ID, Kind: yard.NetworkPart}); err != nil {
			return err
		}
		if err := takeFiles(ctx, d.yard, w.ID, o); err != nil {
			return err
		}
		for _, p := range []*store.Plan{w.Plan, w.NextPlan} {
			if p != nil {
				if err := d.images.dropImage(ctx, w, *p); err != nil {
					return err
				}
			}
		}
		*d.seen, err = d.yard.Observe(ctx, w.ID)
		return err
	})
}

// letGo takes the steward out of an adopted container and leaves that as it is.
func (d *doing) letGo(ctx context.Context) error {
	y, ok := d.yard.(yard.Adopter)
	if !ok {
		return yard.Refused("this yard takes no containers on")
	}
	if err := d.hub.Close(outside.Link(d.w.ID, d.w.Body)); err != nil {
		return err
	}
	return tryFor(ctx, yardTimeout, func(ctx context.Context) error {
		if err := y.Release(ctx, d.w.ID); err != nil {
			return err
		}
		var err error
		*d.seen, err = d.yard.Observe(ctx, d.w.ID)
		return err
	})
}
