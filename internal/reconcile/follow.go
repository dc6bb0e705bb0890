package reconcile

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/house"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
)

// Followers take what stewards say: at most one for each workspace, that of its
// newest connection.
type Followers struct {
	house  *house.Book
	hub    Stewards
	store  *store.Store
	turns  turns
	keeper waker
	status *Status

	mu sync.Mutex
	of map[string]*follower
}

type follower struct {
	end   context.CancelFunc
	rules int                // the version by which it was asked
	again context.CancelFunc // asks anew; nil while it does not listen
}

// Between two asks of a steward that does not answer well, and between two of
// its words.
const (
	followAgain     = time.Second
	followAgainMost = 30 * time.Second
	betweenWords    = 100 * time.Millisecond
)

// StewardChanged is called when a steward has come or gone.
func (k *Followers) StewardChanged(link string) {
	id := outside.WorkspaceOf(link)
	k.keeper.Wake(id)
	if !k.hub.Connected(link) {
		return
	}
	k.keeper.Go(func(ctx context.Context) {
		ctx, end := context.WithCancel(ctx)
		defer end()
		f := &follower{end: end}
		k.mu.Lock()
		if k.of == nil {
			k.of = map[string]*follower{}
		}
		if old := k.of[link]; old != nil {
			old.end()
		}
		k.of[link] = f
		k.mu.Unlock()
		k.follow(ctx, id, link, f)
		k.mu.Lock()
		if k.of[link] == f {
			delete(k.of, link)
		}
		k.mu.Unlock()
	})
}

// rulesChanged has the stewards asked anew that were asked by another version.
func (k *Followers) rulesChanged(version int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, f := range k.of {
		if f.again != nil && f.rules != version {
			f.again()
		}
	}
}

// follow takes what a steward says as long as it is connected. Whatever goes
// wrong, it is asked anew: without its word a workspace would be put to rest
// while somebody types.
func (k *Followers) follow(ctx context.Context, id, link string, f *follower) {
	for wait := followAgain; ctx.Err() == nil && k.hub.Connected(link); {
		began := time.Now()
		wanted, err := k.followOnce(ctx, id, link, f)
		switch {
		case !wanted:
			return
		case err == nil: // the rules are others
			continue
		case ctx.Err() == nil && k.hub.Connected(link):
			slog.Warn("what a steward says is not to be had now; it is asked again", "workspace", id, "in", wait, "error", err)
		}
		if time.Since(began) > time.Minute {
			wait = followAgain
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
		wait = min(2*wait, followAgainMost)
	}
}

// followOnce asks a steward, and takes what it says until that breaks off.
// wanted is false where nobody needs to know.
func (k *Followers) followOnce(ctx context.Context, id, link string, f *follower) (wanted bool, err error) {
	turn := k.turns.next()
	defer turn.end()
	w, err := k.store.Read().WorkspaceByID(ctx, id)
	if err != nil {
		return true, err
	}
	if w.Kind != store.ForPerson || w.Phase == lifecycle.Removed {
		return false, nil
	}
	r, version, err := k.house.Rules(ctx, k.store.Read())
	if err != nil {
		return true, err
	}
	turn.end()
	asked, again := context.WithCancel(ctx)
	defer again()
	c, err := k.hub.Ask(asked, link, steward.Request{Kind: steward.Watch, FloorMilli: r.Idle.CPUFloorMilli, Process: steward.Process{Folder: measured(w)}})
	if err != nil {
		return true, err
	}
	defer c.Stream.Close()
	defer context.AfterFunc(asked, func() { c.Stream.Close() })()
	k.listens(f, version, again)
	defer k.listens(f, version, nil)
	for {
		turn.end()
		var said steward.Status
		err := c.Receive(&said)
		if asked.Err() != nil && ctx.Err() == nil {
			return true, nil
		}
		if err != nil {
			return true, err
		}
		turn.begin()
		w, err := k.store.Read().WorkspaceByID(ctx, id)
		if err != nil {
			return true, err
		}
		if w.Phase == lifecycle.Removed {
			return false, nil
		}
		if outside.Link(w.ID, w.Body) == link { // not a body that a rebuild is making
			k.status.took(id, said)
		}
		turn.end()
		select { // whoever says more waits
		case <-asked.Done():
		case <-time.After(betweenWords):
		}
	}
}

func (k *Followers) listens(f *follower, version int, again context.CancelFunc) {
	k.mu.Lock()
	defer k.mu.Unlock()
	f.rules, f.again = version, again
}

// measured is the folder whose size is looked at: in a container that others
// made, none is ours to bound.
func measured(w store.Workspace) string {
	if w.Plan.Adopted != nil {
		return ""
	}
	return w.Plan.Definition.Mountpoint()
}
