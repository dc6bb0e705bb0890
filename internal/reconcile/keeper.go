// Package reconcile drives each workspace towards what is wanted: it asks the
// core what must be done next, does that one step through a yard or the
// steward, writes down how it went, and asks again. What it finds written it
// goes on with, after whatever ended it.
package reconcile

import (
	"context"
	"log/slog"
	"net"
	"sync"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/due"
	"yardbench/internal/feature"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/presence"
	"yardbench/internal/session"
	"yardbench/internal/steward"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/internal/yard"
)

// Keeper keeps all workspaces: it reconciles each with what is wanted of it. Its
// fields are the parts that others ask, a noun each.
type Keeper struct {
	Rooms
	Rest       *Rest
	Status     *Status
	Followers  *Followers
	Sight      *Sight
	Logs       *Logs
	Images     *Images
	Links      *Links
	Quarantine *Quarantine

	luggage *Luggage
	sweeper *sweeper
	steps   *steps
	due     *due.Queue
	board   *presence.Board
	turns   turns

	ctx     context.Context
	mu      sync.Mutex
	working map[string]*work // nil until Run
	// failures counts how often a workspace could not be kept, since it was.
	failures map[string]int
	wg       sync.WaitGroup
}

// Rooms is what the keeper stands on. All are needed, but what is said to be
// optional.
type Rooms struct {
	Store        *store.Store
	Yard         yard.Yard
	Hub          Stewards // Followers.StewardChanged is to be called when one comes or goes
	Mirrors      Trees
	Features     *feature.Kept
	Vault        *vault.Vault
	House        *house.Book
	Sessions     *session.Sessions
	Bus          *live.Bus
	DataDir      string // absolute: parts of it are mounted into workspaces
	Installation string
	Now          func() time.Time // nil is the real clock
	// Hold, if set, makes sure before anything is done in the yard that it is
	// ours to keep, and SetBack tells whether the records are older than it.
	Hold    func(ctx context.Context) error
	SetBack func(ctx context.Context) (bool, error)
	// Looked ends that they are: an operator has looked through the yard.
	Looked func(ctx context.Context) error
}

// New makes a keeper whose work ends with ctx. Nothing is done before Run.
func New(ctx context.Context, r Rooms) *Keeper {
	if r.Now == nil {
		r.Now = time.Now
	}
	queue, board := &due.Queue{}, &presence.Board{}
	k := &Keeper{Rooms: r, ctx: ctx, due: queue, board: board, turns: make(turns, mostTurns), failures: map[string]int{}}
	k.Logs = &Logs{bus: r.Bus, dataDir: r.DataDir, house: r.House, now: r.Now, store: r.Store, due: queue}
	k.Images = &Images{installation: r.Installation, store: r.Store, yard: r.Yard, ctx: ctx}
	k.Links = &Links{hub: r.Hub, vault: r.Vault, yard: r.Yard}
	k.Rest = &Rest{bus: r.Bus, house: r.House, hub: r.Hub, now: r.Now, sessions: r.Sessions, store: r.Store, board: board, ctx: ctx, due: queue, keeper: k}
	k.Status = &Status{bus: r.Bus, house: r.House, now: r.Now, hub: r.Hub, sessions: r.Sessions, store: r.Store, board: board, ctx: ctx, due: queue, keeper: k, rest: k.Rest, fails: k.failed}
	if r.Sessions != nil {
		r.Sessions.Asking().Changed(k.Status.asked)
	}
	k.Followers = &Followers{house: r.House, hub: r.Hub, store: r.Store, turns: k.turns, keeper: k, status: k.Status}
	k.Sight = &Sight{house: r.House, now: r.Now, store: r.Store, yard: r.Yard, ctx: ctx, keeper: k, status: k.Status}
	k.Quarantine = &Quarantine{store: r.Store, yard: r.Yard, setBack: r.SetBack, looked: r.Looked}
	k.luggage = &Luggage{hub: r.Hub, house: r.House, sessions: r.Sessions, store: r.Store, vault: r.Vault, due: queue, now: r.Now}
	k.sweeper = &sweeper{hold: r.Hold, setBack: r.SetBack, store: r.Store, yard: r.Yard}
	k.steps = &steps{store: r.Store, yard: r.Yard, hub: r.Hub, mirrors: r.Mirrors, features: r.Features, house: r.House, sessions: r.Sessions, bus: r.Bus, dataDir: r.DataDir, now: r.Now,
		ctx: ctx, images: k.Images, links: k.Links, logs: k.Logs, rest: k.Rest, luggage: k.luggage}
	return k
}

// waker is the keeper, to its parts.
type waker interface {
	Wake(id string)
	Interrupt(id string)
	Go(do func(ctx context.Context))
}

// Stewards is how the stewards of bodies are reached, each by the name of its
// link; see outside.Hub.
type Stewards interface {
	Open(link, token string) error
	Reach(link string, dial func(ctx context.Context) (net.Conn, error))
	Close(link string) error
	Connected(link string) bool
	Await(ctx context.Context, link string) error
	Ask(ctx context.Context, link string, r steward.Request) (*steward.Conn, error)
}

// Trees is what the keeper takes from the copies of repositories; see
// repo.Mirrors.
type Trees interface {
	ReadFile(ctx context.Context, id, commit, path string, max int64) (content []byte, ok bool, err error)
	Pack(ctx context.Context, id, commit, folder, dest string) error
}

// work is one workspace's keeper while it has something to do. There is at
// most one for each workspace.
type work struct {
	again       bool               // woken meanwhile: look once more
	interrupted bool               // something else was asked for since the last look
	cancel      context.CancelFunc // ends the step under way
}

// Time limits of steps.
const (
	yardTimeout    = 2 * time.Minute
	buildTimeout   = time.Hour
	stewardTimeout = 30 * time.Second
	cloneTimeout   = 30 * time.Minute
	setUpTimeout   = 2 * time.Hour
	stopGrace      = 8 * time.Second
)

// Run starts the keeper: it opens the links of all bodies, looks at every
// workspace once, and watches the yard until its context ends. Wait waits for
// the end.
func (k *Keeper) Run() error {
	ctx := k.ctx
	k.mu.Lock()
	k.working = map[string]*work{}
	k.mu.Unlock()
	all, err := k.Store.Read().Workspaces(ctx)
	if err != nil {
		return err
	}
	for _, w := range all {
		k.Links.adopt(w)
		for _, n := range []int{w.Body, w.NextBody} {
			if n > 0 && w.Phase != lifecycle.Removing {
				if err := k.Links.openLink(w, n); err != nil { // the others have done nothing wrong
					slog.Error("a workspace's steward cannot be listened for", "workspace", w.ID, "error", err)
				}
			}
		}
	}
	for _, w := range all {
		k.Wake(w.ID)
	}
	k.wg.Go(func() {
		if err := k.sweeper.sweep(ctx); err != nil && ctx.Err() == nil {
			slog.Warn("the yard could not be looked through", "error", err)
		}
	})
	k.wg.Go(k.Sight.watch)
	k.due.Set("logs", k.Now(), k.Logs.clearLogs)
	k.due.Set("luggage", k.Now().Add(luggageEvery), k.luggage.pass)
	if err := k.Rest.errands(ctx); err != nil {
		return err
	}
	k.wg.Go(func() { k.due.Run(ctx, k.Now) })
	return nil
}

// Wait waits until all work has ended after the keeper's context.
func (k *Keeper) Wait() { k.wg.Wait() }

// Go does something in the background, as long as the keeper runs; before it
// runs, nothing.
func (k *Keeper) Go(do func(ctx context.Context)) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.working == nil || k.ctx.Err() != nil {
		return
	}
	k.wg.Go(func() { do(k.ctx) })
}

// At has do called at a time, in place of what the name stood for before; again
// after a while where it fails.
func (k *Keeper) At(name string, at time.Time, do func(ctx context.Context) error) {
	k.due.Set(name, at, do)
}

// Forget drops what was to be called under a name.
func (k *Keeper) Forget(name string) { k.due.Drop(name) }

// Wake has a workspace looked at.
func (k *Keeper) Wake(id string) { k.wake(id, false) }

// Interrupt has a workspace looked at now: the step under way is given up.
func (k *Keeper) Interrupt(id string) { k.wake(id, true) }

func (k *Keeper) wake(id string, interrupt bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.working == nil || k.ctx.Err() != nil {
		return
	}
	if j := k.working[id]; j != nil {
		j.again = true
		if j.interrupted = j.interrupted || interrupt; interrupt && j.cancel != nil {
			j.cancel()
		}
		return
	}
	j := &work{}
	k.working[id] = j
	k.wg.Go(func() { k.keep(id, j) })
}

// keep works on one workspace until there is nothing more to do.
func (k *Keeper) keep(id string, j *work) {
	for {
		err := k.settle(id, j)
		k.again(id, err)
		k.mu.Lock()
		if !j.again || k.ctx.Err() != nil {
			delete(k.working, id)
			k.mu.Unlock()
			return
		}
		j.again = false
		k.mu.Unlock()
	}
}
