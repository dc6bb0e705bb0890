package engine

import (
	"context"
	"os"
	"path/filepath"
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
	link := e.Link(workspace, n)
	return slices.ContainsFunc(mounts, func(m mount.Mount) bool {
		return m.Target == linkTarget && m.Source != link && !samePlace(filepath.Dir(m.Source), filepath.Dir(link))
	})
}

// samePlace tells whether two paths lead to one folder, by a link say.
func samePlace(a, b string) bool {
	x, xerr := os.Stat(a)
	y, yerr := os.Stat(b)
	return xerr == nil && yerr == nil && os.SameFile(x, y)
}

// bringDisk has a bounded volume name its disk where it is now: the engine keeps the
// name as it was when the volume was made. The volume holds nothing beside that name.
func (e *conn) bringDisk(ctx context.Context, name string) error {
	if e.Disks == nil {
		return nil
	}
	in, err := e.cli.VolumeInspect(ctx, name, client.VolumeInspectOptions{})
	if err != nil || in.Volume.Options["device"] == "" || in.Volume.Options["device"] == e.Disks.device(name) || samePlace(filepath.Dir(in.Volume.Options["device"]), e.Disks.dir) {
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
