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
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
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
}

type services map[string]*service

type service struct {
	Spec  yard.ServiceSpec  `json:"spec"`
	State yard.ServiceState `json:"state"`
	Log   string            `json:"log"`
}

type body struct {
	Spec  yard.BodySpec  `json:"spec"`
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
	y := &Yard{Options: o, installation: installation, place: on, rand: rand.New(rand.NewPCG(o.Seed, 1)), has: map[string]*workspace{}, stewards: map[string]*stewardOf{}, watchers: map[chan event]bool{}, still: map[string]bool{}}
	y.links = &Links{yard: y, opened: map[string]bool{}, wait: map[string]chan struct{}{}}
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
func (y *Yard) Close() error {
	y.mu.Lock()
	defer y.mu.Unlock()
	for key, s := range y.stewards {
		s.end()
		delete(y.stewards, key)
	}
	return nil
}

// recall reads what was kept.
func (y *Yard) recall() error {
	if err := os.MkdirAll(filepath.Join(y.Dir, "workspaces"), 0o700); err != nil {
		return err
	}
	kept, err := os.ReadDir(filepath.Join(y.Dir, "workspaces"))
	if err != nil {
		return err
	}
	for _, e := range kept {
		id, whole := strings.CutSuffix(e.Name(), ".json")
		if !whole {
			continue // its writing was cut off
		}
		var w workspace
		if err := read(filepath.Join(y.Dir, "workspaces", e.Name()), &w); err != nil {
			return err
		}
		y.has[id] = &w
	}
	if err := read(filepath.Join(y.Dir, "images.json"), &y.place.images); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

func read(file string, v any) error {
	text, err := os.ReadFile(file)
	if err == nil {
		err = json.Unmarshal(text, v)
	}
	return err
}

func write(file string, v any) error {
	text, err := json.Marshal(v)
	if err == nil {
		err = os.WriteFile(file+".new", text, 0o600)
	}
	if err == nil {
		err = os.Rename(file+".new", file)
	}
	return err
}

// keep writes down what the yard has of a workspace. y.mu is held.
func (y *Yard) keep(id string) error {
	if y.Dir == "" {
		return nil
	}
	file := filepath.Join(y.Dir, "workspaces", id+".json")
	if w := y.has[id]; w != nil {
		return write(file, w)
	}
	if err := os.Remove(file); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// keepImages writes down which images there are.
func (y *Yard) keepImages() error {
	if y.Dir == "" {
		return nil
	}
	y.place.mu.Lock()
	defer y.place.mu.Unlock()
	return write(filepath.Join(y.Dir, "images.json"), y.place.images)
}

// pass lets the time of a step pass.
func (y *Yard) pass(ctx context.Context, step string) error {
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
func (y *Yard) do(ctx context.Context, step, id string, change func() error) error {
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

func (y *Yard) of(id string) *workspace {
	w := y.has[id]
	if w == nil {
		w = &workspace{Subnet: -1, Volumes: map[int]bool{}, Named: map[string]bool{}, Bodies: map[int]*body{}, Services: map[int]services{}}
		y.has[id] = w
	}
	return w
}

// tidy forgets a workspace of which nothing is left.
func (y *Yard) tidy(id string) {
	if w := y.has[id]; w != nil && w.Subnet < 0 && len(w.Volumes)+len(w.Named)+len(w.Bodies)+len(w.Services) == 0 {
		delete(y.has, id)
	}
}

// event is news of a workspace.
type event struct {
	workspace string
	news      yard.News
}

func (y *Yard) tell(id string) { y.news(event{workspace: id}) }

// Starve tells that something in a workspace was ended for want of memory, as
// an engine does.
func (y *Yard) Starve(id string) {
	y.mu.Lock()
	defer y.mu.Unlock()
	y.news(event{id, yard.OutOfMemory})
}

func (y *Yard) news(e event) {
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
	o.Network, o.Named = w.Subnet >= 0, len(w.Named) > 0
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

// MakeNetwork implements [yard.Yard].
func (y *Yard) MakeNetwork(ctx context.Context, id string, subnet int) error {
	if y.Addresses.IsValid() && subnet >= 1<<(27-y.Addresses.Bits()) {
		return yard.Refused("the address range %s is used up; give the service a larger one", y.Addresses)
	}
	return y.do(ctx, Make, id, func() error {
		w := y.of(id)
		if w.Subnet >= 0 {
			return nil
		}
		y.place.mu.Lock()
		defer y.place.mu.Unlock()
		mine := y.installation + " " + id
		if other := y.place.subnets[subnet]; other != "" && other != mine {
			y.tidy(id)
			return fmt.Errorf("make network %d: %w", subnet, yard.ErrSubnetTaken)
		}
		y.place.subnets[subnet], w.Subnet = mine, subnet
		return nil
	})
}

// MakeVolume implements [yard.Yard].
func (y *Yard) MakeVolume(ctx context.Context, id string, n int, _ int64) error {
	return y.do(ctx, Make, id, func() error { y.of(id).Volumes[n] = true; return nil })
}

// MakeBody implements [yard.Yard].
func (y *Yard) MakeBody(ctx context.Context, b yard.BodySpec) error {
	if _, ok, err := y.FindImage(ctx, b.Image); err != nil || !ok {
		return errors.Join(err, yard.Refused("make the container: no such image: %s", b.Image))
	}
	return y.do(ctx, Make, b.Workspace, func() error {
		w := y.of(b.Workspace)
		if w.Bodies[b.Number] == nil {
			w.Bodies[b.Number] = &body{Spec: b, State: lifecycle.Created}
		}
		name(w, b.Mounts)
		return nil
	})
}

// name makes the volumes that mounts name.
func name(w *workspace, ms []definition.Mount) {
	for _, m := range ms {
		if m.Kind == definition.MountVolume {
			w.Named[m.Source] = true
		}
	}
}

// StartBody implements [yard.Yard].
func (y *Yard) StartBody(ctx context.Context, id string, n int) error {
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
func (y *Yard) running() (n int) {
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
func (y *Yard) Kill(id string, n int, how string) {
	y.mu.Lock()
	defer y.mu.Unlock()
	if w := y.has[id]; w != nil && w.Bodies[n] != nil && w.Bodies[n].State == lifecycle.Running {
		y.ended(id, n, how)
		_ = y.keep(id) // it ended, whether that can be written or not
	}
}

// ended ends a body and its services. y.mu is held.
func (y *Yard) ended(id string, n int, how string) {
	w := y.has[id]
	w.Bodies[n].State, w.Bodies[n].How = lifecycle.Ended, how
	if s := y.stewards[key(id, n)]; s != nil {
		s.end()
		delete(y.stewards, key(id, n))
		y.links.moved(key(id, n))
	}
	y.tell(id)
}

// StopBody implements [yard.Yard].
func (y *Yard) StopBody(ctx context.Context, id string, n int, _ time.Duration) error {
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

// RemoveBody implements [yard.Yard].
func (y *Yard) RemoveBody(ctx context.Context, id string, n int) error {
	return y.do(ctx, Stop, id, func() error {
		if w := y.has[id]; w != nil {
			if b := w.Bodies[n]; b != nil && b.Adopted != "" {
				return yard.Refused("remove the container: it was made by others, and is only let go")
			}
			if b := w.Bodies[n]; b != nil && b.State == lifecycle.Running {
				y.ended(id, n, "removed")
			}
			delete(w.Bodies, n)
			delete(w.Services, n)
			y.tidy(id)
			y.tell(id)
		}
		return nil
	})
}

// RemoveVolume implements [yard.Yard].
func (y *Yard) RemoveVolume(ctx context.Context, id string, n int) error {
	return y.do(ctx, Stop, id, func() error {
		if w := y.has[id]; w != nil {
			delete(w.Volumes, n)
			delete(w.Desks, n)
			y.tidy(id)
		}
		return nil
	})
}

// RemoveNamedVolumes implements [yard.Yard].
func (y *Yard) RemoveNamedVolumes(ctx context.Context, id string) error {
	return y.do(ctx, Stop, id, func() error {
		if w := y.has[id]; w != nil {
			clear(w.Named)
			y.tidy(id)
		}
		return nil
	})
}

// RemoveNetwork implements [yard.Yard].
func (y *Yard) RemoveNetwork(ctx context.Context, id string) error {
	return y.do(ctx, Stop, id, func() error {
		if w := y.has[id]; w != nil && w.Subnet >= 0 {
			y.place.mu.Lock()
			delete(y.place.subnets, w.Subnet)
			y.place.mu.Unlock()
			w.Subnet = -1
			y.tidy(id)
		}
		return nil
	})
}

// StartService implements [yard.Yard].
func (y *Yard) StartService(ctx context.Context, s yard.ServiceSpec) error {
	return y.do(ctx, Start, s.Workspace, func() error {
		w := y.of(s.Workspace)
		if w.Services[s.Number] == nil {
			w.Services[s.Number] = services{}
		}
		name(w, s.Service.Mounts)
		old := w.Services[s.Number][s.Service.Name]
		if old != nil && old.State.Body == lifecycle.Running {
			return nil
		}
		v := &service{Spec: s, State: yard.ServiceState{Body: lifecycle.Running}}
		out, code, ends := run(append(append([]string{}, s.Service.Entrypoint...), s.Service.Command...), s.Service.Env, nil)
		if v.Log = out; ends && code != 0 {
			v.State = yard.ServiceState{Body: lifecycle.Ended, ExitCode: code, Problem: fmt.Sprintf("exit code %d", code)}
		} else if s.Service.Health != nil {
			v.State.Health = "healthy"
		}
		if old != nil {
			v.Log = old.Log + v.Log
		}
		w.Services[s.Number][s.Service.Name] = v
		return nil
	})
}

// ServiceLog implements [yard.Yard].
func (y *Yard) ServiceLog(_ context.Context, id string, n int, service string, _ int, to io.Writer) error {
	y.mu.Lock()
	defer y.mu.Unlock()
	if w := y.has[id]; w != nil && w.Services[n][service] != nil {
		_, err := io.WriteString(to, w.Services[n][service].Log)
		return err
	}
	return yard.Refused("read the service's log: there is none")
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
