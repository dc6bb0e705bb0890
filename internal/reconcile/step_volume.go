package reconcile

import (
	"context"

	"yardbench/internal/yard"
)

// makeVolume makes what holds the workspace folder.
func (d *doing) makeVolume(ctx context.Context) error {
	err := tryWhole(ctx, yardTimeout, func(ctx context.Context) error {
		return d.yard.Make(ctx, yard.Volume{Workspace: d.w.ID, Number: d.volume, SizeBytes: d.w.DiskBytes})
	})
	if err == nil {
		d.see().Volumes[d.volume] = true
	}
	return err
}
