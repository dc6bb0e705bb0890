package service

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"slices"
	"sync"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/store"
)

// Leases are what open connections stand on. Each holds one: a terminal, a run,
// a tunnel, a visit of a port, an event stream, a log that is followed. It ends with its ground: a
// sign-in that ended, an account that was closed, another role or team, a port
// that is not shared any more, a workspace that is being removed. What changes
// a ground says so in the records (see [store.Store.OnGround]), so there is one
// place for all doors, and nothing that ends access needs to know of them.
type Leases struct {
	store    *store.Store
	views    *views
	ports    *Ports
	now      func() time.Time
	sessions *Sessions
	used     func(store.Token)

	mu sync.Mutex
	on map[string]map[*lease]bool // by the person, and by the workspace
}

// ErrLeaseEnded is the cause of a context that ended with its lease.
var ErrLeaseEnded = errors.New("what this connection stood on has ended: a sign-in, an account, a right to be here")

const (
	// leaseLook is how often a lease is looked at without a word that its
	// ground has changed; sooner where the sign-in expires.
	leaseLook = 30 * time.Second
	// leaseTime bounds one look.
	leaseTime = 5 * time.Second
)

type lease struct {
	still func(context.Context) (expires time.Time, err error)
	ends  context.CancelCauseFunc
	ctx   context.Context
	mu    sync.Mutex // one look at a time
	timer *time.Timer
}

// HoldSelf holds a lease on being who one is: the same role, the same team.
func (l *Leases) HoldSelf(ctx context.Context, a Actor) (context.Context, context.CancelFunc) {
	return l.hold(ctx, func(ctx context.Context) (time.Time, error) {
		now, expires, err := l.actor(ctx, a.TokenID)
		if err == nil && (now.Role != a.Role || now.TeamID != a.TeamID || !slices.Equal(now.Also, a.Also)) {
			err = ErrLeaseEnded
		}
		return expires, err
	}, a.ID)
}

// HoldWorkspace holds a lease on using a workspace.
func (l *Leases) HoldWorkspace(ctx context.Context, a Actor, ref string) (context.Context, context.CancelFunc, error) {
	w, _, err := l.views.findTo(ctx, a, ref, policy.UseWorkspace, "use")
	if err != nil {
		return nil, nil, err
	}
	ctx, release := l.hold(ctx, func(ctx context.Context) (time.Time, error) {
		now, expires, err := l.actor(ctx, a.TokenID)
		if err != nil {
			return expires, err
		}
		w, err := l.store.Read().WorkspaceByID(ctx, w.ID)
		if err != nil {
			return expires, err
		}
		owner, err := l.store.Read().PersonByID(ctx, w.OwnerID)
		if err == nil && (!now.holds(w.RepositoryID) || !now.mayOf(policy.UseWorkspace, owner) || w.Phase == lifecycle.Removing || w.Phase == lifecycle.Removed) {
			err = ErrLeaseEnded
		}
		return expires, err
	}, a.ID, w.ID)
	return ctx, release, nil
}

// HoldTerminal holds a lease on a terminal: on using its workspace, or on looking at
// it as its owner lets one, or on entering it for a reason, as a guest.
func (l *Leases) HoldTerminal(ctx context.Context, a Actor, ref, label, reason string) (_ context.Context, _ context.CancelFunc, guest bool, _ error) {
	if reason != "" {
		w, others, err := l.sessions.enters(ctx, a, ref, reason)
		if err != nil {
			return nil, nil, false, err
		}
		if others {
			held, release := l.hold(ctx, func(ctx context.Context) (time.Time, error) {
				now, expires, err := l.actor(ctx, a.TokenID)
				if err != nil {
					return expires, err
				}
				is, _, err := l.sessions.enters(ctx, now, ref, reason)
				if err == nil && (is.ID != w.ID || is.Phase == lifecycle.Removing || is.Phase == lifecycle.Removed) {
					err = ErrLeaseEnded
				}
				return expires, err
			}, a.ID, w.ID)
			return held, release, true, nil
		}
	}
	held, release, err := l.HoldWorkspace(ctx, a, ref)
	if err == nil {
		return held, release, false, nil
	}
	w, look, ok, lerr := l.sessions.look(ctx, a, ref, label)
	if lerr != nil || !ok {
		return nil, nil, false, cmp.Or(lerr, err)
	}
	held, release = l.hold(ctx, func(ctx context.Context) (time.Time, error) {
		now, expires, err := l.actor(ctx, a.TokenID)
		if err != nil {
			return expires, err
		}
		is, again, ok, err := l.sessions.look(ctx, now, ref, label)
		if err == nil && (!ok || is.ID != w.ID || again.Writes != look.Writes || is.Phase == lifecycle.Removing || is.Phase == lifecycle.Removed) {
			err = ErrLeaseEnded
		}
		if again.Until.Before(expires) {
			expires = again.Until
		}
		return expires, err
	}, a.ID, w.ID)
	return held, release, true, nil
}

// HoldVisit holds a lease on a visit of a port, by the cookie of its host.
func (l *Leases) HoldVisit(ctx context.Context, v Visit) (context.Context, context.CancelFunc) {
	grounds := []string{v.Person, v.Workspace.ID}
	if v.Stranger { // nobody's sign-in: the house rules', and its owner's account
		grounds = []string{store.House, v.Workspace.OwnerID, v.Workspace.ID}
	}
	return l.hold(ctx, func(ctx context.Context) (time.Time, error) {
		again, err := l.ports.EnterPort(ctx, v.Host, v.cookie)
		return again.Expires, err
	}, grounds...)
}

// actor is who holds a token, as they are now, and until when.
func (l *Leases) actor(ctx context.Context, token string) (Actor, time.Time, error) {
	t, err := l.store.Read().TokenByID(ctx, token, l.now())
	if err != nil {
		return Actor{}, time.Time{}, err
	}
	l.used(t) // an open connection is use
	p, err := l.store.Read().PersonByID(ctx, t.PersonID)
	if err == nil && p.Left(l.now()) {
		err = ErrLeaseEnded
	}
	if p.Guest != nil && p.Guest.Until.Before(t.ExpiresAt) {
		t.ExpiresAt = p.Guest.Until
	}
	return Actor{Person: p, TokenID: t.ID, Grant: t.Grant}, t.ExpiresAt, err
}

// hold begins a lease, and looks at it at once: what ended since its holder was
// let in is seen. Its context ends with ctx, with the returned function, or with
// [ErrLeaseEnded] as its cause.
func (l *Leases) hold(ctx context.Context, still func(context.Context) (time.Time, error), grounds ...string) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancelCause(ctx)
	x := &lease{still: still, ends: cancel, ctx: ctx}
	l.mu.Lock()
	if l.on == nil {
		l.on = map[string]map[*lease]bool{}
	}
	for _, g := range grounds {
		if l.on[g] == nil {
			l.on[g] = map[*lease]bool{}
		}
		l.on[g][x] = true
	}
	l.mu.Unlock()
	l.look(x)
	return ctx, func() {
		cancel(nil)
		l.mu.Lock()
		for _, g := range grounds {
			if delete(l.on[g], x); len(l.on[g]) == 0 {
				delete(l.on, g)
			}
		}
		l.mu.Unlock()
		x.mu.Lock()
		defer x.mu.Unlock()
		if x.timer != nil {
			x.timer.Stop()
		}
	}
}

// look ends a lease whose ground is gone. What cannot be looked at now is left
// as it is, and looked at again soon.
func (l *Leases) look(x *lease) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.ctx.Err() != nil {
		return
	}
	ctx, cancel := context.WithTimeout(x.ctx, leaseTime)
	defer cancel()
	expires, err := x.still(ctx)
	if x.ctx.Err() != nil {
		return // it was let go meanwhile, which is no word of its ground
	}
	next := leaseLook
	switch {
	case err == nil:
		if left := expires.Sub(l.now()); left < next {
			next = max(left, 0) + time.Millisecond
		}
	case ended(err):
		x.ends(ErrLeaseEnded)
		return
	default:
		next = time.Second
		slog.Warn("what a connection stands on cannot be looked at", "error", err)
	}
	if x.timer == nil {
		x.timer = time.AfterFunc(next, func() { l.look(x) })
	} else {
		x.timer.Reset(next)
	}
}

// ended tells whether an error says that somebody may not be here any more.
func ended(err error) bool {
	f, ok := errors.AsType[*fault.Fault](err)
	return errors.Is(err, ErrLeaseEnded) || errors.Is(err, ErrNoPass) || errors.Is(err, store.ErrNotFound) ||
		ok && slices.Contains([]fault.Class{fault.Denied, fault.Stranger, fault.Missing, fault.Conflict}, f.Class)
}

// changed looks at the leases that stand on what changed. The writer calls it,
// and does not wait.
func (l *Leases) changed(grounds []string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, g := range grounds {
		for x := range l.on[g] {
			go l.look(x)
		}
	}
}
