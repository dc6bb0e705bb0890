package reconcile

import (
	"context"
	"errors"
	"fmt"

	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// network makes the workspace's network; where others have its piece of the
// range, it takes the next one.
func (d *doing) network(ctx context.Context) error {
	subnet := d.w.Subnet
	for {
		err := tryWhole(ctx, yardTimeout, func(ctx context.Context) error { return d.yard.MakeNetwork(ctx, d.w.ID, subnet) })
		if errors.Is(err, yard.ErrSubnetTaken) {
			fmt.Fprintln(d.log, err)
			if err := d.store.Write(store.About(ctx, d.w.ID), func(tx *store.Tx) (err error) { subnet, err = tx.MoveSubnet(ctx, d.w.ID); return err }); err != nil {
				return err
			}
			continue // ends with the range, whose end is another error
		}
		if err == nil {
			d.see().Network = true
		}
		return err
	}
}
