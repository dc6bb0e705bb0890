package reconcile

import (
	"context"

	"yardbench/internal/yard"
)

// network makes the workspace's network.
func (d *doing) network(ctx context.Context) error {
	house, _, err := d.house.Rules(ctx, d.store.Read())
	if err != nil {
		return err
	}
	err = tryWhole(ctx, yardTimeout, func(ctx context.Context) error {
		return d.yard.Make(ctx, yard.Network{Workspace: d.w.ID, Closed: house.Workspaces.Closed})
	})
	if err == nil {
		d.see().Network = true
	}
	return err
}
