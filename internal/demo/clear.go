package demo

import (
	"context"

	"yardbench/internal/client"
)

// Clear removes every workspace of the demo's service at address, with
// whatever is in it, and waits until they are gone.
func Clear(ctx context.Context, address string) error {
	c, err := client.New(address, "")
	if err != nil {
		return err
	}
	in, err := c.SignIn(ctx, People[0].Name, Password)
	if err != nil {
		return err
	}
	if c, err = client.New(address, in.Token); err != nil {
		return err
	}
	all, err := c.List(ctx, true)
	if err != nil {
		return err
	}
	for _, w := range all {
		if _, err := c.Remove(ctx, w.Name+"."+w.Owner, true); err != nil {
			return err
		}
	}
	return c.Watch(ctx, func() (bool, error) {
		left, err := c.List(ctx, true)
		return len(left) == 0, err
	})
}
