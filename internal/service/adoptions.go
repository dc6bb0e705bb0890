package service

import (
	"cmp"
	"context"
	"errors"
	"path"
	"regexp"
	"strings"

	"yardbench/internal/core/cost"
	"yardbench/internal/core/definition"
	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/quota"
	"yardbench/internal/core/rules"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/reconcile"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/internal/yard"
	"yardbench/wire"
)

// Adoptions are the use cases of containers that others started and that are taken on.
type Adoptions struct {
	house        *house.Book
	keeper       *reconcile.Keeper
	store        *store.Store
	vault        *vault.Vault
	launches     *Launches
	repositories *Repositories
	workspaces   *Workspaces
	views        *views
}

// Containers lists what runs in the yard and belongs to nobody.
func (s *Adoptions) Containers(ctx context.Context, a Actor) ([]wire.Container, error) {
	all, err := s.others(ctx, a)
	if err != nil {
		return nil, err
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	out := []wire.Container{}
	for _, o := range all {
		size, _ := sizeFor(house, o)
		out = append(out, wire.Container{ID: o.ID, Name: o.Name, Image: o.Image, StartedAt: o.StartedAt, CoresMilli: o.CoresMilli, MemoryBytes: o.MemoryBytes, Size: size})
	}
	return out, err
}

// Sizes are what a container that is taken on may count for, the smallest first.
func (s *Adoptions) Sizes(ctx context.Context, a Actor) ([]wire.SizeOffer, error) {
	if !a.may(policy.AdoptContainers) {
		return nil, denied(a, "take containers on")
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return nil, err
	}
	out := sizeOffers(house)
	for n, z := range out { // its disk is not ours to give, nor to count
		out[n].DiskBytes, out[n].HourMicros = 0, int64(cost.Hourly(house.Rates, z.Name, rules.Size{}))
	}
	return out, nil
}

func (s *Adoptions) others(ctx context.Context, a Actor) ([]yard.Other, error) {
	if !a.may(policy.AdoptContainers) {
		return nil, denied(a, "take containers on")
	}
	all, ok, err := s.keeper.Links.Others(ctx)
	if !ok {
		return nil, conflict("not-here", "this yard cannot take containers on", "")
	}
	return all, fromRoom(err)
}

// sizeFor is the smallest size, in the rules' order, that a container's own
// bounds fit in; ok is false where there is none, or it has no bounds.
func sizeFor(house rules.Rules, o yard.Other) (name string, ok bool) {
	if o.CoresMilli == 0 || o.MemoryBytes == 0 {
		return "", false
	}
	for _, name := range house.Order {
		if z := house.Sizes[name]; o.CoresMilli <= z.CoresMilli && o.MemoryBytes <= z.MemoryBytes {
			return name, true
		}
	}
	return "", false
}

var notInNames = regexp.MustCompile(`[^a-z0-9]+`)

// Adopt takes a container on as somebody's workspace: it is reserved for and
// counted like a launch. Nothing in the container changes but that a steward
// comes in.
func (s *Adoptions) Adopt(ctx context.Context, a Actor, container string, in wire.Adopt) (wire.Workspace, error) {
	all, err := s.others(ctx, a)
	if err != nil {
		return wire.Workspace{}, err
	}
	var o yard.Other
	found := 0
	for _, c := range all {
		if c.Name == container { // names are unique in a yard
			o, found = c, 1
			break
		}
		if len(container) >= 12 && strings.HasPrefix(c.ID, container) {
			o = c
			found++
		}
	}
	if found != 1 {
		return wire.Workspace{}, notFound("container", container, "see those that run and belong to nobody", fault.Do("list-containers", ""))
	}
	if o.ReadOnly {
		return wire.Workspace{}, conflict("read-only", quote(o.Name)+" is read-only: no steward can be put into it", "")
	}
	owner, err := heir(ctx, s.store.Read(), in.Owner)
	if err != nil {
		return wire.Workspace{}, err
	}
	r, err := s.repositories.repository(ctx, a, in.Repository)
	if err != nil {
		return wire.Workspace{}, err
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return wire.Workspace{}, err
	}
	if in.Size == "" {
		var ok bool
		if in.Size, ok = sizeFor(house, o); !ok {
			return wire.Workspace{}, at(invalid("the bounds of "+quote(o.Name)+" fit no size: "+boundsOf(o), "say what it counts for"), "/size", "one of "+strings.Join(house.Order, ", "))
		}
	}
	size, ok := house.Sizes[in.Size]
	if !ok {
		return wire.Workspace{}, invalid(quote(in.Size)+" is no size", "the house rules have: "+strings.Join(house.Order, ", "))
	}
	if in.Folder = cmp.Or(in.Folder, o.Folder, "/"); !path.IsAbs(in.Folder) || hasControl(in.Folder+in.User) {
		return wire.Workspace{}, invalid(quote(in.Folder)+" is no folder", "begin it with /")
	}
	if in.Name == "" {
		in.Name = strings.Trim(notInNames.ReplaceAllString(strings.ToLower(o.Name), "-"), "-0123456789")
		in.Name = strings.Trim(in.Name[:min(len(in.Name), 40)], "-")
	}
	if !workspaceName.MatchString(in.Name) {
		return wire.Workspace{}, at(invalid(quote(in.Name)+" is no workspace name", "give another"), "/name", "lower-case letters, digits and dashes, starting with a letter, at most 40")
	}
	w := store.Workspace{ID: store.NewID(), OwnerID: owner.ID, Name: in.Name, RepositoryID: r.ID, Phase: lifecycle.Waiting, Wanted: lifecycle.WantReady, Body: 1, Volume: 1,
		Plan: &store.Plan{Image: o.Image, Adopted: &store.Adopted{Container: o.ID, Name: o.Name}, Definition: definition.Definition{Image: o.Image, User: cmp.Or(in.User, o.User, "root"), Folder: path.Clean(in.Folder)}},
		Size: in.Size, CoresMilli: size.CoresMilli, MemoryBytes: size.MemoryBytes, PortKey: NewPortKey()}
	if w.StewardToken, err = s.vault.Seal(store.NewID(), "steward", w.ID); err != nil {
		return wire.Workspace{}, err
	}
	var view wire.Workspace
	err = s.store.Write(store.About(ctx, w.ID), func(tx *store.Tx) error {
		if taken, err := tx.WorkspaceOfContainer(ctx, o.ID); err == nil {
			return conflict("taken-on", quote(o.Name)+" is taken on already, as "+quote(taken.Name), "")
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err := s.launches.admit(ctx, tx, owner, quota.Launch(size)); err != nil {
			return err
		}
		if err := s.launches.Accept(ctx, tx, &w, lifecycle.AdoptSheet, a.ID, r.Name); err != nil {
			return err
		}
		if err := tx.Journal(ctx, w.ID, w.OwnerID, a.ID, journal.WorkspaceAdopted{Container: o.ID, Name: o.Name, Image: o.Image}); err != nil {
			return err
		}
		if err := tx.SetCondition(ctx, w, lifecycle.Adopted, "its container, "+o.Name+", was started by others and taken on; it is not put to rest, rebuilt or removed"); err != nil {
			return err
		}
		view, err = s.views.view(ctx, tx.Q, w)
		return err
	})
	if store.IsDuplicate(err) {
		return wire.Workspace{}, at(conflict("name-taken", owner.Name+" has a workspace "+quote(w.Name)+" already", "choose another name"), "/name", "it is taken")
	}
	if err != nil {
		return wire.Workspace{}, fromRoom(err)
	}
	s.keeper.Wake(w.ID)
	return view, nil
}

// heir is who a workspace is to be given to: somebody who is here and may have some.
func heir(ctx context.Context, q store.Q, name string) (store.Person, error) {
	owner, err := q.PersonByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) || err == nil && owner.ClosedAt != nil {
		return owner, notFound("person", name, "see who is here", fault.Do("list-people", ""))
	}
	if err == nil && !policy.May(owner.Role, policy.Launch, policy.Own) {
		err = invalid(owner.Name+" is an "+string(owner.Role)+", and has no workspaces", "give it to somebody else")
	}
	return owner, err
}

func boundsOf(o yard.Other) string {
	part := func(n int64, what, text string) string {
		if n == 0 {
			return "no bound on " + what
		}
		return text
	}
	return part(o.CoresMilli, "processor use", rules.Thousandths(o.CoresMilli)+" cores") + ", " + part(o.MemoryBytes, "memory", rules.Bytes(o.MemoryBytes)+" memory")
}

// LetGo gives an adopted container up: the steward goes out of it, and it goes
// on as it is.
func (s *Adoptions) LetGo(ctx context.Context, a Actor, ref string) (wire.Workspace, error) {
	return s.workspaces.want(ctx, a, ref, lifecycle.LetGo, func(tx *store.Tx, w *store.Workspace) error {
		if w.Phase == lifecycle.Removing {
			return nil
		}
		w.Wanted = lifecycle.WantRemoved
		return s.workspaces.begin(ctx, tx, w, a, lifecycle.Removing, lifecycle.LetGoSheet)
	})
}
