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
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/network"
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

// subnetBits is the size of one workspace's piece of the address range: a /27
// has room for its services and costs little of the range.
const subnetBits = 27

// Engine is a yard on one container engine.
type Engine struct {
	cli          *client.Client
	host         string
	installation string
	addresses    netip.Prefix
	disks        *Disks // nil: volumes are not bounded
	asked        sync.Mutex
	syntax       string // that the builder knows; "" until it is asked
	adopted      adopted
}

// New speaks to the engine at host (unix://… or tcp://…), without a call yet.
// addresses is the range that workspaces' networks are cut from. With disks
// volumes are bounded.
func New(host, installation string, addresses netip.Prefix, disks *Disks) (*Engine, error) {
	if scheme, _, _ := strings.Cut(host, "://"); scheme != "unix" && scheme != "tcp" {
		return nil, fmt.Errorf("engine address %q: it must start with unix:// or tcp://", host)
	}
	cli, err := client.New(client.WithHost(host))
	if err != nil {
		return nil, fmt.Errorf("engine address %q: %w", host, err)
	}
	return &Engine{cli: cli, host: host, installation: installation, addresses: addresses.Masked(), disks: disks}, nil
}

// Close lets the engine's connections go.
func (e *Engine) Close() error { return e.cli.Close() }

func (e *Engine) name(workspace string) string { return "yb-" + e.installation + "-" + workspace }

func (e *Engine) body(workspace string, n int) string {
	if id := e.adopted.container(workspace); id != "" {
		return id
	}
	return e.name(workspace) + "-b" + strconv.Itoa(n)
}

func (e *Engine) volume(workspace string, n int) string {
	return e.name(workspace) + "-v" + strconv.Itoa(n)
}

func (e *Engine) labels(workspace string, n int) map[string]string {
	l := map[string]string{LabelInstallation: e.installation, LabelWorkspace: workspace}
	if n > 0 {
		l[LabelNumber] = strconv.Itoa(n)
	}
	return l
}

func (e *Engine) mine(workspace string) client.Filters {
	f := client.Filters{}.Add("label", LabelInstallation+"="+e.installation)
	if workspace != "" {
		f.Add("label", LabelWorkspace+"="+workspace)
	}
	return f
}

// wrap puts an engine's error into the keeper's terms, its own words kept.
func (e *Engine) wrap(doing string, err error) error {
	switch {
	case err == nil:
		return nil
	case client.IsErrConnectionFailed(err), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return fmt.Errorf("%s: %w at %s: %s", doing, yard.ErrAway, e.host, firstLine(err))
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
	o := yard.Observation{Volumes: map[int]bool{}, Bodies: map[int]lifecycle.Body{}, Ends: map[int]string{}, Services: map[int]map[string]yard.ServiceState{}}
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

// MakeNetwork implements [yard.Yard].
func (e *Engine) MakeNetwork(ctx context.Context, workspace string, subnet int) error {
	piece, err := cut(e.addresses, subnet)
	if err != nil {
		return err
	}
	name := e.name(workspace)
	ns, err := e.cli.NetworkList(ctx, client.NetworkListOptions{Filters: e.mine(workspace)})
	if err != nil {
		return e.wrap("look at the networks", err)
	}
	if len(ns.Items) > 0 {
		return nil
	}
	_, err = e.cli.NetworkCreate(ctx, name, client.NetworkCreateOptions{Driver: "bridge", Labels: e.labels(workspace, 0),
		IPAM: &network.IPAM{Config: []network.IPAMConfig{{Subnet: piece}}}})
	if err != nil && strings.Contains(strings.ToLower(err.Error()), "overlap") {
		return fmt.Errorf("make network %s: %w: %s", piece, yard.ErrSubnetTaken, firstLine(err))
	}
	return e.wrap("make the network", err)
}

// cut is the n-th piece of a range.
func cut(from netip.Prefix, n int) (netip.Prefix, error) {
	a := from.Addr().As4()
	base := uint64(a[0])<<24 | uint64(a[1])<<16 | uint64(a[2])<<8 | uint64(a[3])
	base += uint64(n) << (32 - subnetBits)
	addr := netip.AddrFrom4([4]byte{byte(base >> 24), byte(base >> 16), byte(base >> 8), byte(base)})
	if base>>32 != 0 || !from.Contains(addr) {
		return netip.Prefix{}, yard.Refused("the address range %s is used up; give the service a larger one", from)
	}
	return netip.PrefixFrom(addr, subnetBits), nil
}

// MakeVolume implements [yard.Yard].
func (e *Engine) MakeVolume(ctx context.Context, workspace string, n int, size int64) error {
	return e.makeVolume(ctx, e.volume(workspace, n), e.labels(workspace, n), size)
}

func (e *Engine) makeVolume(ctx context.Context, name string, labels map[string]string, size int64) error {
	options := client.VolumeCreateOptions{Name: name, Labels: labels}
	if e.disks != nil && size > 0 {
		if err := e.disks.make(ctx, name, size); err != nil {
			return err
		}
		options.Driver, options.DriverOpts = "local", e.disks.options(name)
	}
	_, err := e.cli.VolumeCreate(ctx, options)
	return e.wrap("make the volume", err)
}

// StartBody implements [yard.Yard].
func (e *Engine) StartBody(ctx context.Context, workspace string, n int) error {
	return e.start(ctx, e.body(workspace, n))
}

// start starts a container, its disks attached and its links in place.
func (e *Engine) start(ctx context.Context, name string) error {
	if e.disks != nil {
		disks, err := e.disksOf(ctx, name)
		if err != nil {
			return e.wrap("look at the container's disks", err)
		}
		for _, v := range disks {
			if err := e.disks.attach(ctx, v); err != nil {
				return err
			}
			defer e.disks.release(context.WithoutCancel(ctx), v) // mounted by then, it goes with its last mount
		}
	}
	if err := e.putLinks(ctx, name); err != nil {
		return err
	}
	_, err := e.cli.ContainerStart(ctx, name, client.ContainerStartOptions{})
	return e.wrap("start the container", err)
}

// RemoveVolume implements [yard.Yard].
func (e *Engine) RemoveVolume(ctx context.Context, workspace string, n int) error {
	return e.removeVolume(ctx, e.volume(workspace, n))
}

func (e *Engine) removeVolume(ctx context.Context, name string) error {
	_, err := e.cli.VolumeRemove(ctx, name, client.VolumeRemoveOptions{})
	if err := e.wrap("remove the volume", gone(err)); err != nil || e.disks == nil {
		return err
	}
	return e.disks.remove(ctx, name)
}

// RemoveNetwork implements [yard.Yard].
func (e *Engine) RemoveNetwork(ctx context.Context, workspace string) error {
	_, err := e.cli.NetworkRemove(ctx, e.name(workspace), client.NetworkRemoveOptions{})
	return e.wrap("remove the network", gone(err))
}

// KeepBody implements [yard.Yard].
func (e *Engine) KeepBody(ctx context.Context, workspace string, n int, tag string) error {
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
	for {
		select {
		case m := <-res.Messages:
			w := m.Actor.Attributes[LabelWorkspace]
			if m.Actor.Attributes[LabelInstallation] != e.installation {
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
