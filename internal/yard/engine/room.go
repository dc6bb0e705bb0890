package engine

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/moby/moby/client"
	"golang.org/x/sys/unix"

	"yardbench/internal/core/rules"
	"yardbench/internal/yard"
)

// disk is the file system that an engine keeps everything on: images, what
// containers write outside of their volumes, what builds make. Nothing there is
// bounded by itself (overlay2 bounds a layer on few file systems alone), so what
// takes the last of it is ended before all else fails for want of room.
type disk struct {
	root string // "" where it is not on this machine
	stat func(path string, to *unix.Statfs_t) error
}

// floor is what is to be left of a disk: a twentieth, of a large one 4 GiB.
func floor(total uint64) uint64 { return min(total/20, 4<<30) }

// least is what somebody must have written to be asked to stop.
const least = 256 << 20

// room is what is left and what there is in all; zero where that cannot be told.
func (d disk) room() (left, size uint64) {
	var s unix.Statfs_t
	if d.root == "" || d.stat(d.root, &s) != nil {
		return 0, 0
	}
	return s.Bavail * uint64(s.Bsize), s.Blocks * uint64(s.Bsize)
}

// Room implements [yard.Roomer].
func (e *Engine) Room(ctx context.Context) (free, size uint64) { return e.disk(ctx).room() }

// short tells whether less than the floor is left, and how much.
func (d disk) short() (left uint64, short bool) {
	left, size := d.room()
	return left, left < floor(size)
}

// disk finds the engine's, if it is on this machine.
func (e *conn) disk(ctx context.Context) disk {
	d := disk{stat: unix.Statfs}
	if strings.HasPrefix(e.Host, "unix://") {
		if in, err := e.cli.Info(ctx, client.InfoOptions{}); err == nil {
			d.root = in.Info.DockerRootDir
		}
	}
	return d
}

// within ends the context, with the reason as its cause, when the disk gets
// short. End it to have it watch no more.
func (d disk) within(ctx context.Context, every time.Duration) (context.Context, context.CancelFunc) {
	ctx, end := context.WithCancelCause(ctx)
	go func() {
		t := time.NewTicker(every)
		defer t.Stop()
		for {
			if left, short := d.short(); short {
				end(yard.Refused("the yard's disk has only %s left: it was ended before others fail for want of room; an operator can make some", rules.Bytes(int64(left)>>20<<20)))
			}
			select {
			case <-ctx.Done():
				return
			case <-t.C:
			}
		}
	}()
	return ctx, func() { end(nil) }
}

// sprawling is the workspace whose containers that run have written most outside
// of their volumes; "" where that is little.
func (e *conn) sprawling(ctx context.Context) (string, error) {
	f := e.mine("").Add("status", "running")
	all, err := e.cli.ContainerList(ctx, client.ContainerListOptions{Filters: f, Size: true})
	if err != nil {
		return "", fmt.Errorf("weigh the containers: %w", err)
	}
	wrote := map[string]int64{}
	for _, c := range all.Items {
		wrote[c.Labels[LabelWorkspace]] += c.SizeRw
	}
	return most(wrote), nil
}

// most is who wrote most, if that is something.
func most(wrote map[string]int64) (id string) {
	for w, n := range wrote {
		if w != "" && n >= least && (id == "" || n > wrote[id] || n == wrote[id] && w < id) {
			id = w
		}
	}
	return id
}
