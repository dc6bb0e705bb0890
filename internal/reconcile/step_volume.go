package reconcile

import "context"

// makeVolume makes what holds the workspace folder.
func (d *doing) makeVolume(ctx context.Context) error {
	err := tryWhole(ctx, yardTimeout, func(ctx context.Context) error { return d.yard.MakeVolume(ctx, d.w.ID, d.volume, d.w.DiskBytes) })
	if err == nil {
		d.see().Volumes[d.volume] = true
	}
	return err
}
