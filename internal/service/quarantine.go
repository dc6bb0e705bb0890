package service

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/reconcile"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/wire"
)

// Quarantine is the use cases of what the yard has of workspaces that no record
// knows: it is given to somebody, kept or removed, by operators alone.
type Quarantine struct {
	house        *house.Book
	keeper       *reconcile.Keeper
	store        *store.Store
	vault        *vault.Vault
	definitions  *Definitions
	launches     *Launches
	repositories *Repositories
	views        *views
}

// List tells what there is.
func (s *Quarantine) List(ctx context.Context, a Actor) ([]wire.Stray, error) {
	if !a.may(policy.AdoptContainers) {
		return nil, denied(a, "see what no record knows")
	}
	all, err := s.keeper.Quarantine.List(ctx)
	if err != nil {
		return nil, fromRoom(err)
	}
	kept, err := s.store.Read().KeptStrays(ctx)
	out := []wire.Stray{}
	for _, x := range all {
		out = append(out, strayView(x, kept))
	}
	return out, err
}

// undecided counts those that nobody has looked at.
func (s *Quarantine) undecided(ctx context.Context) (n int, err error) {
	all, err := s.keeper.Quarantine.List(ctx)
	if err != nil {
		return 0, err
	}
	kept, err := s.store.Read().KeptStrays(ctx)
	for _, x := range all {
		if _, ok := kept[x.ID]; !ok && (x.Files() || x.Named) {
			n++
		}
	}
	return n, err
}

func strayView(x reconcile.Stray, kept map[string]store.KeptStray) wire.Stray {
	v := wire.Stray{ID: x.ID, Owner: x.Whose.Owner, Name: x.Whose.Name, Repository: x.Whose.Repository, Branch: x.Whose.Branch, Definition: x.Whose.Definition, Size: x.Whose.Size,
		Files: x.Files(), OtherFiles: x.Named, Runs: x.Runs()}
	if !x.MadeAt.IsZero() {
		v.MadeAt = &x.MadeAt
	}
	if k, ok := kept[x.ID]; ok {
		v.Kept = &wire.StrayStays{Reason: k.Reason, By: k.Person, At: k.At}
	}
	return v
}

// decide has an operator decide something of one.
func (s *Quarantine) decide(ctx context.Context, a Actor, id, what string, do func(reconcile.Stray) error) error {
	if !a.may(policy.AdoptContainers) {
		return denied(a, what+" what no record knows")
	}
	err := s.keeper.Quarantine.Decide(ctx, id, do)
	if errors.Is(err, store.ErrNotFound) {
		return notFound("workspace without a record", id, "see what there is", fault.Do("list-quarantine", ""))
	}
	return fromRoom(err)
}

// Keep has one stay where it is; its containers stay, too.
func (s *Quarantine) Keep(ctx context.Context, a Actor, id string, in wire.KeepStray) (v wire.Stray, err error) {
	reason := strings.TrimSpace(in.Reason)
	if reason == "" || hasControl(reason) {
		return v, at(invalid("the reason is missing, or holds what nobody can read", ""), "/reason", "say why in one line")
	}
	err = s.decide(ctx, a, id, "keep", func(x reconcile.Stray) error {
		if err := s.store.Write(store.About(ctx, id), func(tx *store.Tx) error { return tx.KeepStray(ctx, id, reason, a.ID) }); err != nil {
			return err
		}
		kept, err := s.store.Read().KeptStrays(ctx)
		v = strayView(x, kept)
		return err
	})
	return v, err
}

// Remove takes one out of the yard, its files too. The journal says so first: what is done
// in the yard cannot be taken back.
func (s *Quarantine) Remove(ctx context.Context, a Actor, id string) error {
	return s.decide(ctx, a, id, "remove", func(x reconcile.Stray) error {
		if err := s.store.Write(store.About(ctx, id), func(tx *store.Tx) error {
			return tx.Journal(ctx, id, "", a.ID, journal.QuarantineRemoved{Name: x.Whose.Name, Owner: x.Whose.Owner, Volumes: len(x.Volumes), Named: x.Named})
		}); err != nil {
			return err
		}
		if err := s.keeper.Quarantine.Remove(ctx, x); err != nil {
			return err
		}
		return s.store.Write(ctx, func(tx *store.Tx) error { return tx.DropStray(ctx, id) })
	})
}

// Give makes one somebody's workspace: stopped, with its files, its container to be made
// anew as it is started. What ran of it ends, and what was written in it outside of its
// folder is gone.
func (s *Quarantine) Give(ctx context.Context, a Actor, id string, in wire.GiveStray) (view wire.Workspace, err error) {
	err = s.decide(ctx, a, id, "give", func(x reconcile.Stray) error {
		if !x.Files() {
			return conflict("no-files", "nothing of "+id+" is left but a container or a network: there is nothing to give", "remove it", fault.Do("remove-quarantined", id))
		}
		w, owner, repository, err := s.given(ctx, a, x, in)
		if err != nil {
			return err
		}
		// Whatever would refuse it does so before anything is done in the yard.
		if err := s.accept(ctx, a, &w, owner, repository, true); !errors.Is(err, errOnlyTried) {
			return err
		}
		if err := s.keeper.Quarantine.Quiet(ctx, x); err != nil {
			return err
		}
		if err := s.accept(ctx, a, &w, owner, repository, false); err != nil {
			return err
		}
		view, err = s.views.view(ctx, s.store.Read(), w)
		return err
	})
	if err == nil {
		s.keeper.Wake(id)
	}
	return view, err
}

// given is the workspace that one becomes.
func (s *Quarantine) given(ctx context.Context, a Actor, x reconcile.Stray, in wire.GiveStray) (w store.Workspace, owner store.Person, r store.Repository, err error) {
	in.To, in.Name = cmp.Or(in.To, x.Whose.Owner), cmp.Or(in.Name, x.Whose.Name)
	in.Repository, in.Branch = cmp.Or(in.Repository, x.Whose.Repository), cmp.Or(in.Branch, x.Whose.Branch)
	for _, m := range []struct{ value, place, what string }{{in.To, "/to", "whose it becomes"}, {in.Name, "/name", "what it is called"}, {in.Repository, "/repository", "which repository it is of"}} {
		if m.value == "" {
			return w, owner, r, at(invalid("nothing in the yard tells "+m.what, "say it"), m.place, "it is missing")
		}
	}
	if !workspaceName.MatchString(in.Name) {
		return w, owner, r, at(invalid(quote(in.Name)+" is no workspace name", "give another"), "/name", "lower-case letters, digits and dashes, starting with a letter, at most 40")
	}
	if owner, err = heir(ctx, s.store.Read(), in.To); err != nil {
		return w, owner, r, err
	}
	if r, err = s.repositories.repository(ctx, a, in.Repository); err != nil {
		return w, owner, r, err
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return w, owner, r, err
	}
	if in.Size == "" && slices.Contains(house.Order, x.Whose.Size) {
		in.Size = x.Whose.Size
	}
	in.Size = cmp.Or(in.Size, house.UsualSize)
	size, ok := house.Sizes[in.Size]
	if !ok {
		return w, owner, r, at(invalid(quote(in.Size)+" is no size", "the house rules have: "+strings.Join(house.Order, ", ")), "/size", "there is none of that name")
	}
	branch := cmp.Or(in.Branch, r.DefaultBranch)
	plan, err := s.definitions.plan(ctx, owner.ID, r, branch, choice{name: x.Whose.Definition})
	if err != nil {
		return w, owner, r, err
	}
	volume, body := 0, 0
	for n := range x.Volumes {
		volume = max(volume, n)
	}
	for n := range x.Bodies {
		body = max(body, n)
	}
	w = store.Workspace{ID: x.ID, OwnerID: owner.ID, Name: in.Name, RepositoryID: r.ID, Branch: branch, Plan: &plan, Phase: lifecycle.Waiting, Wanted: lifecycle.WantStopped,
		Body: body + 1, Volume: volume, SeededVolume: volume, Size: in.Size, CoresMilli: size.CoresMilli, MemoryBytes: size.MemoryBytes, DiskBytes: size.DiskBytes, PortKey: NewPortKey()}
	w.Plan.Definition = definition.WithID(w.Plan.Definition, bodyID(w.ID))
	w.StewardToken, err = s.vault.Seal(store.NewID()+store.NewID(), "steward", w.ID)
	return w, owner, r, err
}

// errOnlyTried takes back what was written to see whether it may be.
var errOnlyTried = errors.New("only tried")

// accept writes it down; with try nothing stays written, and errOnlyTried says that it could.
func (s *Quarantine) accept(ctx context.Context, a Actor, w *store.Workspace, owner store.Person, r store.Repository, try bool) error {
	row := *w
	err := s.store.Write(store.About(ctx, w.ID), func(tx *store.Tx) error {
		if err := s.launches.admit(ctx, tx, owner, rules.Amounts{rules.Existing: 1}); err != nil {
			return err
		}
		if err := s.launches.Accept(ctx, tx, &row, lifecycle.StopSheet, a.ID, r.Name); err != nil {
			return err
		}
		if err := tx.Journal(ctx, row.ID, row.OwnerID, a.ID, journal.QuarantineGiven{Owner: owner.Name, Name: row.Name, Repository: r.Name, Branch: row.Branch}); err != nil {
			return err
		}
		if err := tx.DropStray(ctx, row.ID); err != nil || !try {
			return err
		}
		return errOnlyTried
	})
	if store.IsDuplicate(err) {
		return at(conflict("name-taken", owner.Name+" has a workspace "+quote(w.Name)+" already", "choose another name"), "/name", "it is taken")
	}
	if err == nil {
		*w = row
	}
	return err
}
