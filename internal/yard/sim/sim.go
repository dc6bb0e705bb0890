// Package sim is a yard of kind sim: a faithful stand-in in which nothing
// really runs. Its steps take set times, faults come from a seed, and its
// bodies' stewards speak the real protocol, over no socket. It is for scale, for faults, and
// for machines where no engine can be had.
//
// What it has is kept in files, so that it outlives the service as an engine
// does; it touches those files and nothing else.
package sim

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"slices"
	"sync"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/yard"
)

// Options say how a simulated yard behaves.
type Options struct {
	// Dir keeps what the yard has, a file for each workspace; "" keeps it in
	// memory only.
	Dir string
	// Images are those that the yard has from the start, by name.
	Images map[string]yard.Image
	// Others are containers that others run in it.
	Others []yard.Other
	// Addresses is the range that networks are cut from.
	Addresses netip.Prefix
	// Times is how long each kind of step takes; see the constants.
	Times map[string]time.Duration
	// Bodies is how many may run at once; 0 is any number.
	Bodies int
	// Faults is the chance, in thousandths, that a call is not answered: half of
	// those did what was asked, and half did not. Seed makes them the same
	// each time.
	Faults int
	Seed   uint64
}

// Kinds of step for [Options.Times].
const (
	Fetch   = "fetch"
	Build   = "build" // each instruction of a build file
	Make    = "make"
	Start   = "start"
	Stop    = "stop"
	Keep    = "keep"
	Command = "command"
)

// Usual are times as a small engine has them.
var Usual = map[string]time.Duration{Fetch: 2 * time.Second, Build: 300 * time.Millisecond, Make: 40 * time.Millisecond, Start: 400 * time.Millisecond, Stop: 200 * time.Millisecond, Keep: time.Second, Command: 150 * time.Millisecond}

// place is the ground that several installations may share: who has which
// piece of the address range, and which images there are.
type place struct {
	mu      sync.Mutex
	images  map[string]yard.Image
	subnets map[int]string
}

// Yard is one installation's view of a simulated place.
type Yard struct {
	*ground
	*images
}

// ground is what a yard has, and what it does to it.
type ground struct {
	Options
	installation string
	place        *place

	mu       sync.Mutex
	rand     *rand.Rand
	has      map[string]*workspace
	stewards map[string]*stewardOf // of running bodies, by workspace and number
	watchers map[chan event]bool
	links    *Links
	still    map[string]bool // others' containers that were stopped and let go
}

// workspace is what the yard has of one. Fields are kept in the file.
type workspace struct {
	Subnet   int              `json:"subnet"` // -1: no network
	Volumes  map[int]bool     `json:"volumes"`
	Named    map[string]bool  `json:"named"`
	Bodies   map[int]*body    `json:"bodies"`
	Services map[int]services `json:"services"`
	Desks    map[int]*desk    `json:"desks,omitempty"` // by volume
	Whose    yard.Whose       `json:"whose,omitzero"`
}

type body struct {
	Spec  yard.Body      `json:"spec"`
	State lifecycle.Body `json:"state"`
	How   string         `json:"how"`
	// Adopted is the container that it is, when others made it.
	Adopted string `json:"adopted,omitempty"`
}

// Place makes a ground with images that every installation on it sees.
func Place(images map[string]yard.Image) *place {
	p := &place{images: map[string]yard.Image{}, subnets: map[int]string{}}
	for name, img := range images {
		img.Ref = name
		p.images[name] = img
	}
	return p
}

// New is an installation's yard on a place; nil is a place of its own.
func New(installation string, on *place, o Options) (*Yard, error) {
	if on == nil {
		on = Place(o.Images)
	}
	g := &ground{Options: o, installation: installation, place: on, rand: rand.New(rand.NewPCG(o.Seed, 1)), has: map[string]*workspace{}, stewards: map[string]*stewardOf{}, watchers: map[chan event]bool{}, still: map[string]bool{}}
	y := &Yard{g, &images{g}}
	g.links = &Links{yard: g, opened: map[string]bool{}, wait: map[string]chan struct{}{}}
	if o.Dir == "" {
		return y, nil
	}
	if err := y.recall(); err != nil {
		return nil, fmt.Errorf("the simulated yard: %w", err)
	}
	for id, w := range y.has {
		if w.Subnet >= 0 {
			y.place.subnets[w.Subnet] = installation + " " + id
		}
		for n, b := range w.Bodies {
			if b.State == lifecycle.Running {
				y.wakeSteward(id, n)
			}
		}
	}
	return y, nil
}

// Close lets the stewards go; what the yard has stays in its file.
func (y *ground) Close() error {
	y.mu.Lock()
	defer y.mu.Unlock()
	for key, s := range y.stewards {
		s.end()
		delete(y.stewards, key)
	}
	return nil
}

// pass lets the time of a step pass.
func (y *ground) pass(ctx context.Context, step string) error {
	d := y.Times[step]
	if d <= 0 {
		return ctx.Err()
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-t.C:
		return nil
	}
}

// do makes a change: with a fault it is made or not, and not answered.
func (y *ground) do(ctx context.Context, step, id string, change func() error) error {
	if err := y.pass(ctx, step); err != nil {
		return err
	}
	y.mu.Lock()
	defer y.mu.Unlock()
	fault := y.Faults > 0 && y.rand.IntN(1000) < y.Faults
	if fault && y.rand.IntN(2) == 0 {
		return fmt.Errorf("%s: %w: a simulated fault", step, yard.ErrAway)
	}
	if err := change(); err != nil {
		return err
	}
	if err := y.keep(id); err != nil {
		return err
	}
	if fault {
		return fmt.Errorf("%s: %w: a simulated fault, after it was done", step, yard.ErrAway)
	}
	return nil
}

func (y *ground) of(id string) *workspace {
	w := y.has[id]
	if w == nil {
		w = &workspace{Subnet: -1, Volumes: map[int]bool{}, Named: map[string]bool{}, Bodies: map[int]*body{}, Services: map[int]services{}}
		y.has[id] = w
	}
	return w
}

// tidy forgets a workspace of which nothing is left.
func (y *ground) tidy(id string) {
	if w := y.has[id]; w != nil && w.Subnet < 0 && len(w.Volumes)+len(w.Named)+len(w.Bodies)+len(w.Services) == 0 {
		delete(y.has, id)
	}
}

// event is news of a workspace.
type event struct {
	workspace string
	news      yard.News
}

func (y *ground) tell(id string) { y.news(event{workspace: id}) }

// Sprawl tells that a workspace writes the yard's disk full, as an engine does.
func (y *ground) Sprawl(id string) {
	y.mu.Lock()
	defer y.mu.Unlock()
	y.news(event{id, yard.Sprawls})
}

// Starve tells that something in a workspace was ended for want of memory, as
// an engine does.
func (y *ground) Starve(id string) {
	y.mu.Lock()
	defer y.mu.Unlock()
	y.news(event{id, yard.OutOfMemory})
}

func (y *ground) news(e event) {
	for c := range y.watchers {
		select {
		case c <- e:
		default: // whoever is so far behind looks at everything anyway
		}
	}
}

// Workspaces implements [yard.Yard].
func (y *Yard) Workspaces(ctx context.Context) ([]string, error) {
	y.mu.Lock()
	defer y.mu.Unlock()
	if y.Faults > 0 && y.rand.IntN(1000) < y.Faults {
		return nil, fmt.Errorf("look at the workspaces: %w: a simulated fault", yard.ErrAway)
	}
	return slices.Sorted(maps.Keys(y.has)), ctx.Err()
}

// Observe implements [yard.Yard].
func (y *Yard) Observe(ctx context.Context, id string) (yard.Observation, error) {
	y.mu.Lock()
	defer y.mu.Unlock()
	o := yard.Observation{Volumes: map[int]bool{}, Bodies: map[int]lifecycle.Body{}, Ends: map[int]string{}, Services: map[int]map[string]yard.ServiceState{}}
	if y.Faults > 0 && y.rand.IntN(1000) < y.Faults {
		return o, fmt.Errorf("look at the workspace: %w: a simulated fault", yard.ErrAway)
	}
	w := y.has[id]
	if w == nil {
		return o, ctx.Err()
	}
	o.Network, o.Named, o.Whose = w.Subnet >= 0, len(w.Named) > 0, w.Whose
	for n := range w.Volumes {
		o.Volumes[n] = true
	}
	for n, b := range w.Bodies {
		if o.Bodies[n] = b.State; b.State == lifecycle.Ended {
			o.Ends[n] = b.How
		}
	}
	for n, all := range w.Services {
		o.Services[n] = map[string]yard.ServiceState{}
		for name, s := range all {
			o.Services[n][name] = s.State
		}
	}
	return o, ctx.Err()
}

// Make implements [yard.Yard].
func (y *Yard) Make(ctx context.Context, what yard.Thing) error {
	switch t := what.(type) {
	case yard.Network:
		return y.do(ctx, Make, t.Workspace, func() error { return y.network(t.Workspace) })
	case yard.Volume:
		return y.do(ctx, Make, t.Workspace, func() error {
			w := y.of(t.Workspace)
			w.Volumes[t.Number], w.Whose = true, t.Whose
			return nil
		})
	case yard.Body:
		if _, ok, err := y.FindImage(ctx, t.Image); err != nil || !ok {
			return errors.Join(err, yard.Refused("make the container: no such image: %s", t.Image))
		}
		return y.do(ctx, Make, t.Workspace, func() error {
			w := y.of(t.Workspace)
			if w.Bodies[t.Number] == nil {
				w.Bodies[t.Number] = &body{Spec: t, State: lifecycle.Created}
			}
			name(w, t.Mounts)
			return nil
		})
	}
	return yard.Refused("a simulated yard makes no %T", what)
}

// network gives a workspace the lowest free piece of the range. y.mu is held.
func (y *ground) network(id string) error {
	w := y.of(id)
	if w.Subnet >= 0 {
		return nil
	}
	y.place.mu.Lock()
	defer y.place.mu.Unlock()
	n := 0
	for y.place.subnets[n] != "" {
		n++
	}
	if y.Addresses.IsValid() && n >= 1<<(27-y.Addresses.Bits()) {
		y.tidy(id)
		return yard.Refused("the address range %s is used up; give the service a larger one", y.Addresses)
	}
	y.place.subnets[n], w.Subnet = y.installation+" "+id, n
	return nil
}

// name makes the volumes that mounts name.
func name(w *workspace, ms []definition.Mount) {
	for _, m := range ms {
		if m.Kind == definition.MountVolume {
			w.Named[m.Source] = true
		}
	}
}

// Start implements [yard.Yard].
func (y *Yard) Start(ctx context.Context, id string, n int) error {
	return y.do(ctx, Start, id, func() error {
		w := y.has[id]
		if w == nil || w.Bodies[n] == nil {
			return yard.Refused("start the container: there is none")
		}
		b := w.Bodies[n]
		if b.State == lifecycle.Running {
			return nil
		}
		if y.Bodies > 0 && y.running() >= y.Bodies {
			return yard.Refused("the simulated yard has room for %d bodies, and all are taken", y.Bodies)
		}
		b.State, b.How = lifecycle.Running, ""
		y.wakeSteward(id, n)
		y.tell(id)
		return nil
	})
}

// running counts the bodies that run, with mu held.
func (y *ground) running() (n int) {
	for _, w := range y.has {
		for _, b := range w.Bodies {
			if b.State == lifecycle.Running {
				n++
			}
		}
	}
	return n
}

// Kill ends a body behind everybody's back, as an engine that runs out of
// memory does.
func (y *ground) Kill(id string, n int, how string) {
	y.mu.Lock()
	defer y.mu.Unlock()
	if w := y.has[id]; w != nil && w.Bodies[n] != nil && w.Bodies[n].State == lifecycle.Running {
		y.ended(id, n, how)
		_ = y.keep(id) // it ended, whether that can be written or not
	}
}

// ended ends a body and its services. y.mu is held.
func (y *ground) ended(id string, n int, how string) {
	w := y.has[id]
	w.Bodies[n].State, w.Bodies[n].How = lifecycle.Ended, how
	if s := y.stewards[key(id, n)]; s != nil {
		s.end()
		delete(y.stewards, key(id, n))
		y.links.moved(key(id, n))
	}
	y.tell(id)
}

// Stop implements [yard.Yard].
func (y *Yard) Stop(ctx context.Context, id string, n int, _ time.Duration) error {
	return y.do(ctx, Stop, id, func() error {
		w := y.has[id]
		if w == nil {
			return nil
		}
		if b := w.Bodies[n]; b != nil && b.State == lifecycle.Running {
			y.ended(id, n, "exit code 0")
		}
		for _, s := range w.Services[n] {
			if s.State.Body == lifecycle.Running {
				s.State = yard.ServiceState{Body: lifecycle.Ended, Problem: "exit code 0"}
			}
		}
		return nil
	})
}

// Remove implements [yard.Yard].
func (y *Yard) Remove(ctx context.Context, p yard.Part) error {
	return y.do(ctx, Stop, p.Workspace, func() error {
		w := y.has[p.Workspace]
		if w == nil {
			return nil
		}
		switch p.Kind {
		case yard.NetworkPart:
			y.place.mu.Lock()
			delete(y.place.subnets, w.Subnet)
			y.place.mu.Unlock()
			w.Subnet = -1
		case yard.VolumePart:
			delete(w.Volumes, p.Number)
			delete(w.Desks, p.Number)
		case yard.NamedPart:
			clear(w.Named)
		case yard.BodyPart:
			b := w.Bodies[p.Number]
			if b != nil && b.Adopted != "" {
				return yard.Refused("remove the container: it was made by others, and is only let go")
			}
			if b != nil && b.State == lifecycle.Running {
				y.ended(p.Workspace, p.Number, "removed")
			}
			delete(w.Bodies, p.Number)
			delete(w.Services, p.Number)
			defer y.tell(p.Workspace)
		default:
			return yard.Refused("a simulated yard has no %s", p.Kind)
		}
		y.tidy(p.Workspace)
		return nil
	})
}

// Watch implements [yard.Yard].
func (y *Yard) Watch(ctx context.Context, connected func(), changed func(string, yard.News)) error {
	c := make(chan event, 1024)
	y.mu.Lock()
	y.watchers[c] = true
	y.mu.Unlock()
	defer func() {
		y.mu.Lock()
		delete(y.watchers, c)
		y.mu.Unlock()
	}()
	connected()
	for {
		select {
		case <-ctx.Done():
			return nil
		case id := <-c:
			changed(id.workspace, id.news)
		}
	}
}
