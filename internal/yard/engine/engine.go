// Package engine is a yard of kind engine: one container engine, spoken to
// through the Docker Engine API (v1.40 and up). It touches the engine and
// nothing else.
//
// Names derive from the installation's id and the workspace's id, and
// everything carries both as labels; what carries another installation's id
// is never touched.
package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/yard"
)

// Labels on everything we make.
const (
	LabelInstallation = "yardbench.installation"
	LabelWorkspace    = "yardbench.workspace"
	LabelNumber       = "yardbench.number"
	// LabelService names a service beside a body, LabelNamed a volume that one
	// of them names.
	LabelService = "yardbench.service"
	LabelNamed   = "yardbench.volume"
	// labelLinks holds the links that are put into a container before it starts.
	labelLinks = "yardbench.links"
	// labelTry is on the container of a try of an image.
	labelTry = "yardbench.try"
)

// Engine is a yard on one container engine.
type Engine struct {
	*conn
	*images
	*bodies
	*others
	networks networks
}

// conn is the engine, and what ours is called there.
type conn struct {
	Config
	cli     *client.Client
	adopted adopted
}

// Config says which engine it is, and how it stands to the service.
type Config struct {
	Host         string       // unix://… or tcp://…
	Installation string       // whose names and labels everything carries
	Addresses    netip.Prefix // the range that workspaces' networks are cut from
	Disks        *Disks       // nil: volumes are not bounded
	Shares       *Shares      // nil: containers of a workspace are bounded each for itself
	// Steward is the folder, on the engine's machine, with the steward's program
	// for a processor; Link is the folder there with the socket and the token of
	// a body's link.
	Steward func(arch string) (folder string, err error)
	Link    func(workspace string, number int) (folder string)
}

// New speaks to an engine, without a call yet.
func New(c Config) (*Engine, error) {
	if scheme, _, _ := strings.Cut(c.Host, "://"); scheme != "unix" && scheme != "tcp" {
		return nil, fmt.Errorf("engine address %q: it must start with unix:// or tcp://", c.Host)
	}
	cli, err := client.New(client.WithHost(c.Host))
	if err != nil {
		return nil, fmt.Errorf("engine address %q: %w", c.Host, err)
	}
	c.Addresses = c.Addresses.Masked()
	to := &conn{Config: c, cli: cli}
	return &Engine{conn: to, images: &images{conn: to}, bodies: &bodies{conn: to}, others: &others{conn: to}, networks: networks{conn: to}}, nil
}

// Close lets the engine's connections go.
func (e *Engine) Close() error { return e.cli.Close() }

func (e *conn) name(workspace string) string { return "yb-" + e.Installation + "-" + workspace }

func (e *conn) body(workspace string, n int) string {
	if id := e.adopted.container(workspace); id != "" {
		return id
	}
	return e.name(workspace) + "-b" + strconv.Itoa(n)
}

func (e *conn) volume(workspace string, n int) string {
	return e.name(workspace) + "-v" + strconv.Itoa(n)
}

func (e *conn) labels(workspace string, n int) map[string]string {
	l := map[string]string{LabelInstallation: e.Installation, LabelWorkspace: workspace}
	if n > 0 {
		l[LabelNumber] = strconv.Itoa(n)
	}
	return l
}

func (e *conn) mine(workspace string) client.Filters {
	f := client.Filters{}.Add("label", LabelInstallation+"="+e.Installation)
	if workspace != "" {
		f.Add("label", LabelWorkspace+"="+workspace)
	}
	return f
}

// wrap puts an engine's error into the keeper's terms, its own words kept.
func (e *conn) wrap(doing string, err error) error {
	switch {
	case err == nil:
		return nil
	case client.IsErrConnectionFailed(err), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return fmt.Errorf("%s: %w at %s: %s", doing, yard.ErrAway, e.Host, firstLine(err))
	case errdefs.IsInvalidArgument(err), errdefs.IsNotFound(err), errdefs.IsPermissionDenied(err), errdefs.IsConflict(err):
		return yard.Refused("%s: %s", doing, firstLine(err))
	}
	return fmt.Errorf("%s: %w", doing, err)
}

func firstLine(err error) string {
	s, _, _ := strings.Cut(err.Error(), "\n")
	return strings.TrimPrefix(s, "Error response from daemon: ")
}

// tryMost is how long a try of an image takes at the most; what is older was
// left behind by a service that was ended.
const tryMost = 2 * time.Minute

// Workspaces implements [yard.Yard]. It also sweeps what is left of tries.
func (e *Engine) Workspaces(ctx context.Context) ([]string, error) {
	found := map[string]bool{}
	cs, err := e.cli.ContainerList(ctx, client.ContainerListOptions{All: true, Filters: e.mine("")})
	if err != nil {
		return nil, e.wrap("look at the containers", err)
	}
	for _, c := range cs.Items {
		if found[c.Labels[LabelWorkspace]] = true; c.Labels[labelTry] != "" && time.Since(time.Unix(c.Created, 0)) > tryMost {
			if _, err := e.cli.ContainerRemove(ctx, c.ID, client.ContainerRemoveOptions{Force: true, RemoveVolumes: true}); gone(err) != nil {
				return nil, e.wrap("remove what is left of a try", err)
			}
		}
	}
	vs, err := e.cli.VolumeList(ctx, client.VolumeListOptions{Filters: e.mine("")})
	if err != nil {
		return nil, e.wrap("look at the volumes", err)
	}
	for _, v := range vs.Items {
		found[v.Labels[LabelWorkspace]] = true
	}
	ns, err := e.cli.NetworkList(ctx, client.NetworkListOptions{Filters: e.mine("")})
	if err != nil {
		return nil, e.wrap("look at the networks", err)
	}
	for _, n := range ns.Items {
		found[n.Labels[LabelWorkspace]] = true
	}
	delete(found, "") // a try of an image belongs to none
	return slices.Sorted(maps.Keys(found)), nil
}

// Observe implements [yard.Yard].
func (e *Engine) Observe(ctx context.Context, workspace string) (yard.Observation, error) {
	o := yard.Observation{Volumes: map[int]bool{}, Bodies: map[int]lifecycle.Body{}, Ends: map[int]string{}, Elsewhere: map[int]bool{}, Services: map[int]map[string]yard.ServiceState{}}
	cs, err := e.cli.ContainerList(ctx, client.ContainerListOptions{All: true, Filters: e.mine(workspace)})
	if err != nil {
		return o, e.wrap("look at the containers", err)
	}
	for _, c := range cs.Items {
		n, _ := strconv.Atoi(c.Labels[LabelNumber])
		service := c.Labels[LabelService]
		// The list may be a moment behind the event that made us look.
		in, err := e.cli.ContainerInspect(ctx, c.ID, client.ContainerInspectOptions{})
		if errdefs.IsNotFound(err) || (err == nil && in.Container.State == nil) {
			continue
		}
		if err != nil {
			return o, e.wrap("look at a container", err)
		}
		if service != "" {
			if o.Services[n] == nil {
				o.Services[n] = map[string]yard.ServiceState{}
			}
			o.Services[n][service] = serviceState(in.Container.State)
			continue
		}
		o.Bodies[n], o.Ends[n] = bodyState(in.Container.State)
		if in.Container.HostConfig != nil && e.elsewhere(workspace, n, in.Container.HostConfig.Mounts) {
			o.Elsewhere[n] = true
		}
	}
	if id := e.adopted.container(workspace); id != "" {
		in, err := e.cli.ContainerInspect(ctx, id, client.ContainerInspectOptions{})
		if gone(err) != nil {
			return o, e.wrap("look at the container", err)
		}
		if err == nil && in.Container.State != nil {
			o.Bodies[1], o.Ends[1] = bodyState(in.Container.State)
		}
	}
	vs, err := e.cli.VolumeList(ctx, client.VolumeListOptions{Filters: e.mine(workspace)})
	if err != nil {
		return o, e.wrap("look at the volumes", err)
	}
	for _, v := range vs.Items {
		if v.Labels[LabelNamed] != "" {
			o.Named = true
			continue
		}
		n, _ := strconv.Atoi(v.Labels[LabelNumber])
		o.Volumes[n] = true
		if at, _ := time.Parse(time.RFC3339, v.CreatedAt); !at.Before(o.MadeAt) {
			o.MadeAt, o.Whose = at.UTC(), whoseIn(v.Labels)
		}
	}
	ns, err := e.cli.NetworkList(ctx, client.NetworkListOptions{Filters: e.mine(workspace)})
	if err != nil {
		return o, e.wrap("look at the networks", err)
	}
	o.Network = len(ns.Items) > 0
	return o, nil
}

func bodyState(st *container.State) (b lifecycle.Body, how string) {
	switch st.Status {
	case container.StateCreated:
		return lifecycle.Created, ""
	case container.StateRunning, container.StatePaused, container.StateRestarting:
		return lifecycle.Running, ""
	}
	return lifecycle.Ended, ended(st)
}

// Make implements [yard.Yard].
func (e *Engine) Make(ctx context.Context, what yard.Thing) error {
	switch t := what.(type) {
	case yard.Network:
		return e.networks.make(ctx, t)
	case yard.Volume:
		return e.makeVolume(ctx, e.volume(t.Workspace, t.Number), e.labelsOf(t.Workspace, t.Number, t.Whose), t.SizeBytes)
	case yard.Body:
		return e.makeBody(ctx, t)
	}
	return yard.Refused("an engine makes no %T", what)
}

// Remove implements [yard.Yard].
func (e *Engine) Remove(ctx context.Context, p yard.Part) error {
	switch p.Kind {
	case yard.NetworkPart:
		if e.Shares != nil {
			e.Shares.drop(e.name(p.Workspace))
		}
		return e.networks.remove(ctx, p.Workspace)
	case yard.VolumePart:
		return e.removeVolume(ctx, e.volume(p.Workspace, p.Number))
	case yard.BodyPart:
		return e.removeBody(ctx, p.Workspace, p.Number)
	case yard.NamedPart:
		return e.removeNamedVolumes(ctx, p.Workspace)
	}
	return yard.Refused("an engine has no %s", p.Kind)
}

func (e *conn) makeVolume(ctx context.Context, name string, labels map[string]string, size int64) error {
	if err := e.bringDisk(ctx, name); err != nil {
		return err
	}
	options := client.VolumeCreateOptions{Name: name, Labels: labels}
	if e.Disks != nil && size > 0 {
		if err := e.Disks.make(ctx, name, size); err != nil {
			return err
		}
		options.Driver, options.DriverOpts = "local", e.Disks.options(name)
	}
	_, err := e.cli.VolumeCreate(ctx, options)
	return e.wrap("make the volume", err)
}

// Start implements [yard.Yard].
func (e *bodies) Start(ctx context.Context, workspace string, n int) error {
	return e.startIn(ctx, workspace, e.body(workspace, n))
}

// startIn starts a container of a workspace, in its one network.
func (e *bodies) startIn(ctx context.Context, workspace, name string) error {
	err := e.start(ctx, name)
	if ambiguous(err) {
		if err := e.single(ctx, workspace); err != nil {
			return err
		}
		err = e.start(ctx, name)
	}
	return err
}

// start starts a container, its disks attached and its links in place.
func (e *bodies) start(ctx context.Context, name string) error {
	if e.Disks != nil {
		disks, err := e.disksOf(ctx, name)
		if err != nil {
			return e.wrap("look at the container's disks", err)
		}
		for _, v := range disks {
			if err := e.Disks.attach(ctx, v); err != nil {
				return err
			}
			defer e.Disks.release(context.WithoutCancel(ctx), v) // mounted by then, it goes with its last mount
		}
	}
	if err := e.putLinks(ctx, name); err != nil {
		return err
	}
	_, err := e.cli.ContainerStart(ctx, name, client.ContainerStartOptions{})
	return e.wrap("start the container", err)
}

func (e *conn) removeVolume(ctx context.Context, name string) error {
	_, err := e.cli.VolumeRemove(ctx, name, client.VolumeRemoveOptions{})
	if err := e.wrap("remove the volume", gone(err)); err != nil || e.Disks == nil {
		return err
	}
	return e.Disks.remove(ctx, name)
}

// Keep implements [yard.Committer].
func (e *images) Keep(ctx context.Context, workspace string, n int, tag string) error {
	_, err := e.cli.ContainerCommit(ctx, e.body(workspace, n), client.ContainerCommitOptions{Reference: tag, Comment: "a prepared image"})
	return e.wrap("keep the container as an image", err)
}

// gone takes "there is none" for success.
func gone(err error) error {
	if errdefs.IsNotFound(err) {
		return nil
	}
	return err
}

// roomEvery is how often the engine's disk is looked at.
const roomEvery = 10 * time.Second

// Watch implements [yard.Yard].
func (e *Engine) Watch(ctx context.Context, connected func(), changed func(workspace string, what yard.News)) error {
	// Not by our label: an adopted container has none.
	f := client.Filters{}.Add("type", "container").Add("event", "die", "start", "destroy", "oom")
	// What happens between the two is told by the second.
	since := strconv.FormatInt(time.Now().Unix(), 10)
	if _, err := e.cli.Ping(ctx, client.PingOptions{}); err != nil {
		return e.wrap("watch the engine", err)
	}
	res := e.cli.Events(ctx, client.EventsListOptions{Filters: f, Since: since})
	connected()
	d, weighing := e.disk(ctx), make(chan struct{}, 1)
	look := time.NewTicker(roomEvery)
	defer look.Stop()
	for {
		select {
		case <-look.C:
			if _, short := d.short(); short {
				select {
				case weighing <- struct{}{}:
					go func() { // it takes as long as there are files
						defer func() { <-weighing }()
						if w, err := e.sprawling(ctx); err != nil && ctx.Err() == nil {
							slog.Error("the engine's disk has little room left", "error", err)
						} else if w != "" {
							changed(w, yard.Sprawls)
						}
					}()
				default: // one is at it
				}
			}
		case m := <-res.Messages:
			w := m.Actor.Attributes[LabelWorkspace]
			if m.Actor.Attributes[LabelInstallation] != e.Installation {
				w = e.adopted.workspace(m.Actor.ID)
			}
			if w != "" {
				what := yard.Changed
				if m.Action == "oom" {
					what = yard.OutOfMemory
				}
				changed(w, what)
			}
		case err := <-res.Err:
			if ctx.Err() != nil {
				return nil
			}
			return e.wrap("watch the engine", err)
		}
	}
}
