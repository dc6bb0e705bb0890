package service

import (
	"context"
	"errors"
	"log/slog"
	"slices"
	"strings"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/reconcile"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Guests are the use cases of people whose access ends by itself: they are of a team,
// whose lead brings them in, and work in named repositories, with their own secrets
// alone.
type Guests struct {
	house        *house.Book
	keeper       *reconcile.Keeper
	store        *store.Store
	now          func() time.Time
	people       *People
	repositories *Repositories
	works        *Workspaces
}

const (
	// guestMost bounds how far ahead a guest's access may end.
	guestMost = 366 * 24 * time.Hour
	// guestTold is how long before its end it is told of.
	guestTold = 3 * 24 * time.Hour
)

// List lists the guests whom the actor may bring in and see off.
func (s *Guests) List(ctx context.Context, a Actor) ([]wire.Guest, error) {
	if !a.may(policy.ChangeGuests) {
		return nil, denied(a, "see guests")
	}
	rows, err := s.store.Read().Guests(ctx)
	out := []wire.Guest{}
	for _, p := range rows {
		if err == nil && a.mayOf(policy.ChangeGuests, p) {
			var g wire.Guest
			g, err = s.view(ctx, p)
			out = append(out, g)
		}
	}
	return out, err
}

func (s *Guests) view(ctx context.Context, p store.Person) (wire.Guest, error) {
	g := wire.Guest{Name: p.Name, FullName: p.FullName, Team: p.Team, Until: p.Guest.Until, By: nameOf(ctx, s.store.Read(), p.Guest.By), Repositories: []string{}, Sizes: append([]string{}, p.Guest.Sizes...), Over: p.Left(s.now())}
	for _, id := range p.Guest.Repositories {
		r, err := s.store.Read().RepositoryByID(ctx, id)
		if err != nil {
			return g, err
		}
		g.Repositories = append(g.Repositories, r.Name)
	}
	slices.Sort(g.Repositories)
	return g, nil
}

// Invite makes a link by which somebody sets up an account that ends by itself.
func (s *Guests) Invite(ctx context.Context, a Actor, in wire.NewGuest) (wire.Enrolment, error) {
	t, err := s.people.team(ctx, strings.TrimSpace(in.Team))
	if err != nil {
		return wire.Enrolment{}, err
	}
	if t.ID == "" {
		return wire.Enrolment{}, invalid("the team is missing", "say whose guest it is")
	}
	if !a.mayOf(policy.ChangeGuests, store.Person{ID: t.ID, TeamID: t.ID}) {
		return wire.Enrolment{}, denied(a, "bring in guests of "+t.Name)
	}
	g := store.Guest{By: a.ID}
	if err := s.bounds(ctx, a, &g, &in.Until, &in.Repositories, &in.Sizes); err != nil {
		return wire.Enrolment{}, err
	}
	hours := 72
	if in.Hours > 0 {
		hours = in.Hours
	}
	return s.people.enrolment(ctx, store.Enrolment{Role: policy.Guest, TeamID: t.ID, Team: t.Name, MadeBy: a.ID, Guest: &g}, time.Duration(hours)*time.Hour)
}

// bounds puts what is given into what a guest's access is for.
func (s *Guests) bounds(ctx context.Context, a Actor, g *store.Guest, until *time.Time, repositories, sizes *[]string) error {
	if until != nil {
		g.Until = until.UTC()
		switch in := g.Until.Sub(s.now()); {
		case in <= 0:
			return at(invalid("a guest's access ends in the future", ""), "/until", "a time that is to come")
		case in > guestMost:
			return at(invalid("a guest's access ends within a year", "have somebody who stays longer enrolled as themselves"), "/until", "at most 366 days from now")
		}
	}
	if repositories != nil {
		g.Repositories = nil
		for _, name := range *repositories {
			r, err := s.repositories.repository(ctx, a, name)
			if err != nil {
				return err
			}
			g.Repositories = append(g.Repositories, r.ID)
		}
		if len(g.Repositories) == 0 {
			return at(invalid("a guest works in named repositories", ""), "/repositories", "at least one")
		}
	}
	if sizes != nil {
		house, _, err := s.house.Rules(ctx, s.store.Read())
		if err != nil {
			return err
		}
		for _, z := range *sizes {
			if _, ok := house.Sizes[z]; !ok {
				return at(invalid(quote(z)+" is no size", "the house rules have: "+strings.Join(house.Order, ", ")), "/sizes", quote(z)+" is none")
			}
		}
		g.Sizes = *sizes
	}
	return nil
}

// find finds a guest whom the actor may see off.
func (s *Guests) find(ctx context.Context, a Actor, name string) (store.Person, error) {
	p, err := s.store.Read().PersonByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) || err == nil && (p.Guest == nil || !a.mayOf(policy.ChangeGuests, p)) {
		return p, notFound("guest", name, "see them", fault.Do("list-guests", ""))
	}
	return p, err
}

// Show tells of a guest.
func (s *Guests) Show(ctx context.Context, a Actor, name string) (wire.Guest, error) {
	p, err := s.find(ctx, a, name)
	if err != nil {
		return wire.Guest{}, err
	}
	return s.view(ctx, p)
}

// Change has a guest's access end at another time, or be for other repositories or
// sizes. One whose access was over comes in again.
func (s *Guests) Change(ctx context.Context, a Actor, name string, in wire.GuestChange) (wire.Guest, error) {
	p, err := s.find(ctx, a, name)
	if err != nil {
		return wire.Guest{}, err
	}
	g := *p.Guest
	g.By = a.ID
	if err := s.bounds(ctx, a, &g, in.Until, in.Repositories, in.Sizes); err != nil {
		return wire.Guest{}, err
	}
	if !s.now().Before(g.Until) {
		return wire.Guest{}, at(conflict("not-now", "the access of "+quote(p.Name)+" is over", "say until when it is to last now"), "/until", "a time that is to come")
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		now, err := tx.PersonByID(ctx, p.ID)
		if err == nil && now.Guest == nil {
			err = conflict("no-change", quote(p.Name)+" is no guest any more", "")
		}
		if err != nil {
			return err
		}
		if err := tx.PutGuest(ctx, p.ID, g); err != nil {
			return err
		}
		if err := tx.CloseAccount(ctx, p.ID, false); err != nil {
			return err
		}
		if p, err = tx.PersonByID(ctx, p.ID); err != nil {
			return err
		}
		return tx.Journal(ctx, p.ID, p.ID, a.ID, guestPut(ctx, tx.Q, g))
	})
	if err != nil {
		return wire.Guest{}, err
	}
	s.watch(p)
	s.othersSecrets(p.ID)
	return s.view(ctx, p)
}

// othersSecrets has somebody's workspaces have the secrets that others give them as
// they are now: of another team, or role.
func (s *Guests) othersSecrets(person string) {
	s.keeper.Status.SecretsChanged(func(w store.Workspace) bool { return w.OwnerID == person })
}

// guestPut is what the journal tells of a guest's access.
func guestPut(ctx context.Context, q store.Q, g store.Guest) journal.GuestPut {
	out := journal.GuestPut{Until: g.Until, Sizes: append([]string{}, g.Sizes...), Repositories: []string{}}
	for _, id := range g.Repositories {
		if r, err := q.RepositoryByID(ctx, id); err == nil {
			out.Repositories = append(out.Repositories, r.Name)
		}
	}
	return out
}

// End has a guest's access end now: what they are signed in with ends, and their
// workspaces are stopped and kept.
func (s *Guests) End(ctx context.Context, a Actor, name string) error {
	p, err := s.find(ctx, a, name)
	if err != nil {
		return err
	}
	return s.end(ctx, a.ID, p)
}

func (s *Guests) end(ctx context.Context, by string, p store.Person) error {
	if p.ClosedAt == nil {
		err := s.store.Write(ctx, func(tx *store.Tx) error {
			if err := tx.CloseAccount(ctx, p.ID, true); err != nil {
				return err
			}
			return tx.Journal(ctx, p.ID, p.ID, by, journal.PersonChanged{Role: p.Role, Team: p.Team, Closed: true})
		})
		if err != nil {
			return err
		}
	}
	stopAll(ctx, s.works, Actor{Person: store.Person{ID: by, Name: "the service", Role: policy.Operator}}, p)
	return nil
}

// Began has each guest's access end in its time.
func (s *Guests) Began(ctx context.Context) error {
	all, err := s.store.Read().Guests(ctx)
	for _, p := range all {
		s.watch(p)
	}
	return err
}

// watch has a guest looked at when it is told that their access ends, and when it does.
func (s *Guests) watch(p store.Person) {
	next := p.Guest.Until.Add(-guestTold)
	if !next.After(s.now()) {
		next = s.now()
	}
	s.keeper.At("guest "+p.ID, next, func(ctx context.Context) error { return s.due(ctx, p.ID) })
}

// due tells that a guest's access ends soon, or ends it.
func (s *Guests) due(ctx context.Context, id string) error {
	p, err := s.store.Read().PersonByID(ctx, id)
	if err != nil || p.Guest == nil || p.ClosedAt != nil {
		return err
	}
	if p.Left(s.now()) {
		slog.Info("a guest's access is over", "person", p.Name, "team", p.Team)
		return s.end(ctx, serviceName, p)
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		first, err := tx.GuestTold(ctx, id)
		if err != nil || !first {
			return err
		}
		return tx.Journal(ctx, id, id, serviceName, journal.GuestEnding{Until: p.Guest.Until})
	})
	s.keeper.At("guest "+id, p.Guest.Until, func(ctx context.Context) error { return s.due(ctx, id) })
	return err
}

// serviceName is who the journal says did what nobody asked for.
const serviceName = "service"

// Ending lists the guests whom the actor looks after and whose access ends soon.
func (s *Guests) Ending(ctx context.Context, a Actor) ([]wire.EndingGuest, error) {
	out := []wire.EndingGuest{}
	if !a.may(policy.ChangeGuests) {
		return out, nil
	}
	all, err := s.store.Read().Guests(ctx)
	for _, p := range all {
		if a.mayOf(policy.ChangeGuests, p) && !p.Left(s.now()) && p.Guest.Until.Sub(s.now()) < guestTold {
			out = append(out, wire.EndingGuest{Name: p.Name, Until: p.Guest.Until})
		}
	}
	return out, err
}

// forGuest narrows the sizes of an order to those that a guest may have.
func (o *order) forGuest(a Actor) error {
	if a.Guest == nil || len(a.Guest.Sizes) == 0 {
		return nil
	}
	o.house.Order = slices.DeleteFunc(slices.Clone(o.house.Order), func(z string) bool { return !slices.Contains(a.Guest.Sizes, z) })
	if len(o.house.Order) == 0 {
		return conflict("not-now", "the house rules have none of the sizes any more that you may have: "+strings.Join(a.Guest.Sizes, ", "), "ask your team's lead")
	}
	if !slices.Contains(o.house.Order, o.house.UsualSize) {
		o.house.UsualSize = o.house.Order[0]
	}
	return nil
}

// stopAll stops the workspaces of somebody who has left. What cannot be stopped now is
// told in the log, and stops by its own rest.
func stopAll(ctx context.Context, s *Workspaces, a Actor, p store.Person) {
	a.Grant = policy.Grant{} // who may say that somebody has left may have their workspaces stopped, and no more than that
	theirs, err := s.store.Read().PeoplesWorkspaces(ctx, store.Scope{OwnerID: p.ID})
	for _, w := range theirs {
		if w.Wanted != lifecycle.WantReady {
			continue
		}
		if _, serr := s.Stop(ctx, a, w.Name+"."+p.Name); serr != nil {
			err = serr
		}
	}
	if err != nil {
		slog.Warn("not all workspaces of somebody who has left could be stopped", "person", p.Name, "error", err)
	}
}
