package reconcile

import (
	"context"
	"errors"
	"sync"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// Quarantine is what the yard has of workspaces that the records do not know:
// what was made after the moment to which they were set back, say. Nothing of
// it becomes anybody's, or goes, but by an operator's word.
type Quarantine struct {
	store   *store.Store
	yard    yard.Yard
	setBack func(ctx context.Context) (bool, error) // nil where nobody can tell
	looked  func(ctx context.Context) error

	mu sync.Mutex // held while something is decided
}

// Stray is what the yard has of one.
type Stray struct {
	ID string
	yard.Observation
}

// Files tells whether it has files of its own.
func (s Stray) Files() bool { return len(s.Volumes) > 0 }

// Runs tells whether something of it runs.
func (s Stray) Runs() bool {
	for _, b := range s.Bodies {
		if b == lifecycle.Running {
			return true
		}
	}
	for _, all := range s.Services {
		for _, v := range all {
			if v.Body == lifecycle.Running {
				return true
			}
		}
	}
	return false
}

// List looks through the yard.
func (k *Quarantine) List(ctx context.Context) ([]Stray, error) {
	var ids []string
	if err := tryFor(ctx, yardTimeout, func(ctx context.Context) (err error) { ids, err = k.yard.Workspaces(ctx); return err }); err != nil {
		return nil, err
	}
	out := []Stray{}
	for _, id := range ids {
		s, err := k.look(ctx, id)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}

// look gives what the yard has of one, and [store.ErrNotFound] where that is nothing, or the
// records know it.
func (k *Quarantine) look(ctx context.Context, id string) (Stray, error) {
	if _, err := k.store.Read().WorkspaceByID(ctx, id); !errors.Is(err, store.ErrNotFound) {
		if err == nil {
			err = store.ErrNotFound
		}
		return Stray{}, err
	}
	s := Stray{ID: id}
	err := tryFor(ctx, yardTimeout, func(ctx context.Context) (err error) { s.Observation, err = k.yard.Observe(ctx, id); return err })
	if err == nil && !s.Network && !s.Named && len(s.Volumes)+len(s.Bodies)+len(s.Services) == 0 {
		err = store.ErrNotFound
	}
	return s, err
}

// Decide has something decided of one, with nothing else decided meanwhile, and gives
// [store.ErrNotFound] where there is none. Once nothing is left to decide, the records
// count as looked at.
func (k *Quarantine) Decide(ctx context.Context, id string, do func(Stray) error) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	s, err := k.look(ctx, id)
	if err != nil {
		return err
	}
	if err := do(s); err != nil {
		return err
	}
	return k.over(ctx)
}

func (k *Quarantine) over(ctx context.Context) error {
	if k.setBack == nil {
		return nil
	}
	if old, err := k.setBack(ctx); err != nil || !old {
		return err
	}
	left, err := k.List(ctx)
	if err != nil {
		return err
	}
	kept, err := k.store.Read().KeptStrays(ctx)
	if err != nil {
		return err
	}
	for _, s := range left {
		if _, ok := kept[s.ID]; !ok {
			return nil
		}
	}
	return k.looked(ctx)
}

// Quiet stops what of a stray runs and takes away its bodies, services and network, which
// hold nobody's files.
func (k *Quarantine) Quiet(ctx context.Context, s Stray) error {
	return tryFor(ctx, yardTimeout, func(ctx context.Context) error {
		for n := range s.Bodies {
			if err := k.yard.Stop(ctx, s.ID, n, stopGrace); err != nil {
				return err
			}
		}
		return takeBodies(ctx, k.yard, s.ID, s.Observation)
	})
}

// Remove takes a stray out of the yard, its files too.
func (k *Quarantine) Remove(ctx context.Context, s Stray) error {
	if err := k.Quiet(ctx, s); err != nil {
		return err
	}
	return tryFor(ctx, yardTimeout, func(ctx context.Context) error { return takeFiles(ctx, k.yard, s.ID, s.Observation) })
}

// takeBodies takes what holds no files of a workspace out of a yard.
func takeBodies(ctx context.Context, y yard.Yard, id string, o yard.Observation) error {
	for n := range o.Bodies {
		if err := y.Remove(ctx, yard.Part{Workspace: id, Kind: yard.BodyPart, Number: n}); err != nil {
			return err
		}
	}
	for n := range o.Services {
		if err := y.Remove(ctx, yard.Part{Workspace: id, Kind: yard.BodyPart, Number: n}); err != nil {
			return err
		}
	}
	return y.Remove(ctx, yard.Part{Workspace: id, Kind: yard.NetworkPart})
}

// takeFiles takes a workspace's files out of a yard.
func takeFiles(ctx context.Context, y yard.Yard, id string, o yard.Observation) error {
	for n := range o.Volumes {
		if err := y.Remove(ctx, yard.Part{Workspace: id, Kind: yard.VolumePart, Number: n}); err != nil {
			return err
		}
	}
	return y.Remove(ctx, yard.Part{Workspace: id, Kind: yard.NamedPart})
}
