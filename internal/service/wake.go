package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/store"
)

// wakeWithin bounds how long somebody waits for a workspace that they woke.
const wakeWithin = 15 * time.Minute

// Wake has a workspace of the actor's be ready for somebody who is at a door of
// it, one of [rules.Doors]: one that is stopped is started, where the house rules
// let that door wake it, and once, however many come. It waits, and tells how it
// stands each second.
func (s *Workspaces) Wake(ctx context.Context, a Actor, ref, door string, tell func(string)) error {
	w, _, err := s.views.findTo(ctx, a, ref, policy.UseWorkspace, "use")
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, wakeWithin)
	defer cancel()
	asked := false
	for began := time.Now(); ; {
		ready, err := s.knock(ctx, a, w, door, &asked)
		if ready || err != nil {
			return err
		}
		if w, err = s.store.Read().WorkspaceByID(ctx, w.ID); err != nil {
			return err
		}
		tell(fmt.Sprintf("%s is being started: %s, %.0f s", w.Name, w.Phase, time.Since(began).Seconds()))
		select {
		case <-ctx.Done():
			return conflict("not-now", w.Name+" did not become ready in time", "look how it is", fault.Do("show-workspace", w.Name))
		case <-time.After(time.Second):
		}
		if w, err = s.store.Read().WorkspaceByID(ctx, w.ID); err != nil {
			return err
		}
	}
}

// knock has a workspace started that is stopped, if a door may wake it; ready tells
// that it can be used. asked is whether somebody has asked that already: one that
// is stopped again then stays so.
func (s *Workspaces) knock(ctx context.Context, a Actor, w store.Workspace, door string, asked *bool) (ready bool, err error) {
	refused := lifecycle.Permit(lifecycle.Use, w.Phase, w.Plan.Adopted != nil)
	switch {
	case refused == nil:
		return true, nil
	case w.Phase == lifecycle.Stopped && !*asked:
	case w.Phase == lifecycle.Stopped, w.Phase == lifecycle.Failed:
		why := w.Name + " is " + string(w.Phase)
		if w.Cause != "" {
			why += ": " + w.Cause
		}
		return false, conflict("not-now", why, "look how it is", fault.Do("show-workspace", w.Name))
	case slices.Contains([]lifecycle.Phase{lifecycle.Removing, lifecycle.Removed}, w.Phase):
		return false, fromRoom(refused)
	default:
		return false, nil // it is on its way
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return false, err
	}
	if !house.Idle.Wakes(door) {
		return false, conflict("not-now", w.Name+" is stopped, and the house rules do not have it started by who comes by "+door, "start it first", fault.Do("start-workspace", w.Name))
	}
	*asked, a.Why = true, "somebody came by "+door
	owner, err := s.store.Read().PersonByID(ctx, w.OwnerID)
	if err != nil {
		return false, err
	}
	_, err = s.Start(ctx, a, w.Name+"."+owner.Name)
	if f, ok := errors.AsType[*fault.Fault](err); ok && f.Kind == "not-now" { // somebody else was as quick
		err = nil
	}
	return false, err
}
