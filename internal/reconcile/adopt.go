package reconcile

import (
	"context"
	"errors"
	"fmt"
	"net"

	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/internal/yard"
)

// Links are the ways to the stewards of bodies, also of containers that others
// started.
type Links struct {
	hub   Stewards
	vault *vault.Vault
	yard  yard.Yard
}

// A container that others started is adopted: it becomes a workspace's body,
// with a steward that is copied in. What is in it is not known to us, so it
// gets nobody's secrets and no way to sign in at a git host; and it is not
// ours to put to rest, to rebuild or to remove.

// adopt tells the yard of a workspace's adopted container. Only who keeps the
// workspace does so: told after it was let go, the yard would never forget it.
func (k *Links) adopt(w store.Workspace) {
	if y, ok := k.yard.(yard.Adopter); ok && w.Plan.Adopted != nil {
		y.Adopt(w.ID, w.Plan.Adopted.Container)
	}
}

// Others lists the yard's containers that belong to nobody; ok is false where
// the yard cannot tell.
func (k *Links) Others(ctx context.Context) (all []yard.Other, ok bool, err error) {
	y, ok := k.yard.(yard.Adopter)
	if ok {
		err = tryFor(ctx, yardTimeout, func(ctx context.Context) (err error) { all, err = y.Others(ctx); return err })
	}
	return all, ok, err
}

// reach keeps a way to the steward of an adopted body, as long as it runs.
func (k *Links) reach(w store.Workspace) {
	y, ok := k.yard.(yard.Adopter)
	if !ok {
		return
	}
	k.hub.Reach(outside.Link(w.ID, w.Body), func(ctx context.Context) (net.Conn, error) {
		c, err := y.Reach(ctx, w.ID)
		if errors.Is(err, yard.ErrRefused) {
			err = fmt.Errorf("%w; %w", err, outside.ErrNoUse)
		}
		return c, err
	})
}

func (k *Links) openLink(w store.Workspace, body int) error {
	if w.Plan.Adopted != nil {
		k.reach(w)
		return nil
	}
	token, err := k.vault.Open(w.StewardToken, "steward", w.ID)
	if err != nil {
		return err
	}
	return k.hub.Open(outside.Link(w.ID, body), token)
}
