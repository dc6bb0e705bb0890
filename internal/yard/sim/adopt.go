package sim

import (
	"context"
	"net"
	"slices"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/yard"
)

// Others implements [yard.Adopter].
func (y *Yard) Others(ctx context.Context) ([]yard.Other, error) {
	y.mu.Lock()
	defer y.mu.Unlock()
	out := []yard.Other{}
	for _, o := range y.Options.Others {
		if y.adopter(o.ID) == "" && !y.still[o.ID] {
			out = append(out, o)
		}
	}
	return out, ctx.Err()
}

// adopter is the workspace that a container was taken on as; y.mu is held.
func (y *ground) adopter(container string) string {
	for id, w := range y.has {
		if b := w.Bodies[1]; b != nil && b.Adopted == container {
			return id
		}
	}
	return ""
}

// Adopt implements [yard.Adopter].
func (y *Yard) Adopt(id, container string) {
	y.mu.Lock()
	defer y.mu.Unlock()
	if y.adopter(container) != "" || !slices.ContainsFunc(y.Options.Others, func(o yard.Other) bool { return o.ID == container }) {
		return
	}
	b := &body{State: lifecycle.Running, Adopted: container}
	if y.still[container] {
		b.State, b.How = lifecycle.Ended, "exit code 0"
	}
	if y.of(id).Bodies[1] = b; b.State == lifecycle.Running {
		y.wakeSteward(id, 1)
	}
	_ = y.keep(id) // it is told anew at the next start
}

// Reach implements [yard.Adopter]. There is nothing to reach over: see [Links].
func (y *Yard) Reach(context.Context, string) (net.Conn, error) {
	return nil, yard.Refused("a simulated steward is not dialled")
}

// Release implements [yard.Adopter].
func (y *Yard) Release(ctx context.Context, id string) error {
	return y.do(ctx, Stop, id, func() error {
		w := y.has[id]
		if w == nil || w.Bodies[1] == nil || w.Bodies[1].Adopted == "" {
			return nil
		}
		b := w.Bodies[1]
		y.still[b.Adopted] = b.State != lifecycle.Running
		if s := y.stewards[key(id, 1)]; s != nil {
			s.end()
			delete(y.stewards, key(id, 1))
			y.links.moved(key(id, 1))
		}
		delete(w.Bodies, 1)
		y.tidy(id)
		return nil
	})
}
