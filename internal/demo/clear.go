package demo

import (
	"context"

	"yardbench/client"
)

// Clear removes every workspace and prepared image of the demo's service at
// address, with whatever is in it, and waits until they are gone.
func Clear(ctx context.Context, address string) error {
	c, err := signedIn(ctx, address, People[0].Name)
	if err != nil {
		return err
	}
	all, err := c.Workspaces.List(ctx, client.ListQuery{All: true})
	if err != nil {
		return err
	}
	for _, w := range all {
		if w.Adopted != "" {
			_, err = c.Containers.LetGo(ctx, w.Name+"."+w.Owner)
		} else {
			_, err = c.Workspaces.Remove(ctx, w.Name+"."+w.Owner, true)
		}
		if err != nil {
			return err
		}
	}
	err = c.Watch(ctx, func() (bool, error) {
		left, err := c.Workspaces.List(ctx, client.ListQuery{All: true})
		return len(left) == 0, err
	})
	if err != nil {
		return err
	}
	plans, err := c.Prebuilds.Plans(ctx, "")
	for _, p := range plans {
		if err := c.Prebuilds.DropPlan(ctx, p.Repository, p.Branch); err != nil {
			return err
		}
	}
	return err
}
