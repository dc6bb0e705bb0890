package engine

import (
	"context"
	"os"
	"slices"

	"github.com/moby/moby/api/types/mount"
	"github.com/moby/moby/client"

	"yardbench/internal/yard"
)

// linkTarget is where a body has its link.
const linkTarget = "/.yardbench/link"

// elsewhere tells whether a body's link is not where this service has it: the engine
// keeps the places of a container's mounts as they were when it was made.
func (e *Engine) elsewhere(workspace string, n int, mounts []mount.Mount) bool {
	return slices.ContainsFunc(mounts, func(m mount.Mount) bool {
		return m.Target == linkTarget && m.Source != e.Link(workspace, n)
	})
}

// bringDisk has a bounded volume name its disk where it is now: the engine keeps the
// name as it was when the volume was made. The volume holds nothing beside that name.
func (e *conn) bringDisk(ctx context.Context, name string) error {
	if e.Disks == nil {
		return nil
	}
	in, err := e.cli.VolumeInspect(ctx, name, client.VolumeInspectOptions{})
	if err != nil || in.Volume.Options["device"] == "" || in.Volume.Options["device"] == e.Disks.device(name) {
		return e.wrap("look at the volume", gone(err))
	}
	if _, err := os.Stat(e.Disks.file(name)); err != nil {
		return yard.Refused("the disk of volume %s is not in %s; its files are where the service was before: put what was in disks/ there into this one", name, e.Disks.dir)
	}
	if _, err := e.cli.VolumeRemove(ctx, name, client.VolumeRemoveOptions{}); gone(err) != nil {
		return e.wrap("bring the volume here", err)
	}
	_, err = e.cli.VolumeCreate(ctx, client.VolumeCreateOptions{Name: name, Labels: in.Volume.Labels, Driver: "local", DriverOpts: e.Disks.options(name)})
	return e.wrap("bring the volume here", err)
}
