package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/store"
	"yardbench/wire"
)

// LaunchLinks are the use cases of prepared choices behind one short address, each of
// which gives whoever may use it a workspace of their own, once.
type LaunchLinks struct {
	address  string
	store    *store.Store
	launches *Launches
	house    *house.Book
	people   *People
	works    *Workspaces
	now      func() time.Time
}

// maxLinks bounds those of one person.
const maxLinks = 200

// List lists those that the actor may see, the newest first.
func (s *LaunchLinks) List(ctx context.Context, a Actor) ([]wire.LaunchLink, error) {
	scope, ok := a.scope(policy.SeeLinks)
	if !ok {
		return nil, denied(a, "see launch links")
	}
	rows, err := s.store.Read().LaunchLinks(ctx, scope)
	out := []wire.LaunchLink{}
	for _, l := range rows {
		out = append(out, s.view(l))
	}
	return out, err
}

func (s *LaunchLinks) view(l store.LaunchLink) wire.LaunchLink {
	v := wire.LaunchLink{ID: l.ID, Address: s.address + "/go/" + l.ID, Title: l.Title, Team: l.Team, PeopleMost: l.PeopleMost, Used: l.Used, Until: l.Until, PausedAt: l.PausedAt, MadeBy: l.MadeBy.Name, CreatedAt: l.CreatedAt, GuestS: int64(l.GuestFor / time.Second), Guests: l.Guests}
	_ = json.Unmarshal(l.Choice, &v.Launch) // as it was written by us
	return v
}

// find finds one of those that the actor may see, or change.
func (s *LaunchLinks) find(ctx context.Context, a Actor, id string, action policy.Action) (store.LaunchLink, error) {
	l, err := s.store.Read().LaunchLinkByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && !a.mayOf(policy.SeeLinks, l.MadeBy) {
		return l, notFound("launch link", id, "see them", fault.Do("list-launch-links", ""))
	}
	if err == nil && !a.mayOf(action, l.MadeBy) {
		err = denied(a, "change "+l.MadeBy.Name+"'s launch links")
	}
	return l, err
}

// Show is one of them.
func (s *LaunchLinks) Show(ctx context.Context, a Actor, id string) (wire.LaunchLink, error) {
	l, err := s.find(ctx, a, id, policy.SeeLinks)
	return s.view(l), err
}

// Uses lists who came by one.
func (s *LaunchLinks) Uses(ctx context.Context, a Actor, id string) ([]wire.LinkUse, error) {
	l, err := s.find(ctx, a, id, policy.SeeLinks)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.Read().LinkUses(ctx, l.ID)
	out := []wire.LinkUse{}
	for _, u := range rows {
		out = append(out, wire.LinkUse{Person: u.Person, Workspace: u.Workspace, Phase: u.Phase, At: u.At})
	}
	return out, err
}

// Make makes one. What it launches is looked at first, so that nobody is sent to what
// cannot be.
func (s *LaunchLinks) Make(ctx context.Context, a Actor, in wire.NewLaunchLink) (wire.LaunchLink, error) {
	if !a.mayOf(policy.ChangeLinks, a.Person) {
		return wire.LaunchLink{}, denied(a, "make launch links")
	}
	in.Launch.Name, in.Launch.Errand = "", nil
	o, err := s.launches.order(ctx, a, in.Launch)
	if err != nil {
		return wire.LaunchLink{}, err
	}
	mine, err := s.store.Read().LaunchLinks(ctx, store.Scope{OwnerID: a.ID})
	if err != nil {
		return wire.LaunchLink{}, err
	}
	if len(mine) >= maxLinks {
		return wire.LaunchLink{}, conflict("too-many", fmt.Sprintf("you have %d launch links already", len(mine)), "withdraw one first")
	}
	team, err := s.people.team(ctx, in.Team)
	if err != nil {
		return wire.LaunchLink{}, err
	}
	l := store.LaunchLink{ID: NewPortKey(), Title: cmp.Or(strings.TrimSpace(in.Title), o.repository.Name), RepositoryID: o.repository.ID, TeamID: team.ID, Team: team.Name, PeopleMost: in.PeopleMost, MadeBy: a.Person, CreatedAt: s.now().UTC()}
	if hasControl(l.Title) {
		return wire.LaunchLink{}, invalid("the title holds a character that is no text", "give words")
	}
	if in.Seconds > 0 {
		until := s.now().Add(time.Duration(in.Seconds) * time.Second).UTC()
		l.Until = &until
	}
	if l.GuestFor = time.Duration(in.GuestS) * time.Second; l.GuestFor > 0 {
		if l, err = s.forGuests(ctx, a, l); err != nil {
			return wire.LaunchLink{}, err
		}
	}
	if l.Choice, err = json.Marshal(wire.Prepares{Repository: in.Launch.Repository, Branch: in.Launch.Branch, Size: in.Launch.Size, RestAfterS: in.Launch.RestAfterS, Definition: in.Launch.Definition, Beside: in.Launch.Beside}); err != nil {
		return wire.LaunchLink{}, err
	}
	return s.view(l), s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.PutLaunchLink(ctx, l); err != nil {
			return err
		}
		return tx.Journal(ctx, l.ID, a.ID, a.ID, journal.LaunchLinkPut{Title: l.Title, Repository: o.repository.Name, Team: l.Team, PeopleMost: l.PeopleMost, Until: l.Until, GuestS: in.GuestS})
	})
}

// forGuests is a link by which guests set up their accounts: of the team that it is for,
// or its maker's, who may bring in guests there. It is bounded and has an end, as nobody
// looks at who comes.
func (s *LaunchLinks) forGuests(ctx context.Context, a Actor, l store.LaunchLink) (store.LaunchLink, error) {
	if l.TeamID == "" {
		l.TeamID, l.Team = a.TeamID, a.Team
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	switch {
	case err != nil:
		return l, err
	case l.TeamID == "":
		return l, at(invalid("guests are of a team", ""), "/team", "say whose guests they are")
	case !a.mayOf(policy.ChangeGuests, store.Person{ID: l.TeamID, TeamID: l.TeamID}):
		return l, denied(a, "bring in guests of "+l.Team)
	case house.SignIn.NoPasswords:
		return l, conflict("not-now", "guests sign in with a password, and the house rules have none taken", "have them come by the identity provider")
	case l.PeopleMost == 0 || l.Until == nil:
		return l, at(at(invalid("a link that lets guests in has a bound and an end", ""), "/people_most", "how many may use it"), "/seconds", "for how long it can be used")
	case l.GuestFor > guestMost:
		return l, at(invalid("a guest's access ends within a year", ""), "/guest_s", "at most 366 days")
	}
	return l, nil
}

// Change changes who may use one, how many, until when, and whether at all.
func (s *LaunchLinks) Change(ctx context.Context, a Actor, id string, in wire.LaunchLinkChange) (wire.LaunchLink, error) {
	l, err := s.find(ctx, a, id, policy.ChangeLinks)
	if err != nil {
		return wire.LaunchLink{}, err
	}
	team := store.Team{ID: l.TeamID, Name: l.Team}
	if in.Team != nil {
		if team, err = s.people.team(ctx, *in.Team); err != nil {
			return wire.LaunchLink{}, err
		}
	}
	if hasControl(in.Title) {
		return wire.LaunchLink{}, invalid("the title holds a character that is no text", "give words")
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if l, err = tx.LaunchLinkByID(ctx, id); err != nil {
			return err
		}
		if l.GuestFor > 0 && (in.Team != nil || in.PeopleMost != nil && *in.PeopleMost == 0 || in.Seconds != nil && *in.Seconds == 0) {
			return conflict("no-change", "by this launch link guests set up their accounts: it keeps its team, a bound and an end", "make another")
		}
		if err := matches(ctx, "this launch link", s.view(l)); err != nil {
			return err
		}
		l.TeamID, l.Team, l.Title = team.ID, team.Name, cmp.Or(strings.TrimSpace(in.Title), l.Title)
		if in.PeopleMost != nil {
			l.PeopleMost = *in.PeopleMost
		}
		if in.Seconds != nil {
			l.Until = nil
			if *in.Seconds > 0 {
				until := tx.Now().Add(time.Duration(*in.Seconds) * time.Second).UTC()
				l.Until = &until
			}
		}
		if in.Paused != nil && *in.Paused != (l.PausedAt != nil) {
			l.PausedAt = nil
			if now := tx.Now(); *in.Paused {
				l.PausedAt = &now
			}
		}
		if err := tx.PutLaunchLink(ctx, l); err != nil {
			return err
		}
		return tx.Journal(ctx, l.ID, l.MadeBy.ID, a.ID, journal.LaunchLinkPut{Title: l.Title, Team: l.Team, PeopleMost: l.PeopleMost, Until: l.Until, Paused: l.PausedAt != nil})
	})
	return s.view(l), err
}

// Drop withdraws one; the workspaces that came of it stay.
func (s *LaunchLinks) Drop(ctx context.Context, a Actor, id string) error {
	l, err := s.find(ctx, a, id, policy.ChangeLinks)
	if err != nil {
		return err
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropLaunchLink(ctx, l.ID); err != nil {
			return err
		}
		return tx.Journal(ctx, l.ID, l.MadeBy.ID, a.ID, journal.LaunchLinkDropped{Title: l.Title, Used: l.Used})
	})
}

// usable finds one that the actor may use now. Whoever made it must still be able to:
// a link does not outlive who stands behind it.
func (s *LaunchLinks) usable(ctx context.Context, q store.Q, a Actor, id string) (store.LaunchLink, error) {
	l, err := q.LaunchLinkByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return l, notFound("launch link", id, "it was withdrawn, or never was; ask who gave it to you")
	}
	if err != nil {
		return l, err
	}
	maker, err := s.stands(ctx, q, l)
	if err != nil {
		return l, err
	}
	_, used := q.LinkUseOf(ctx, l.ID, a.ID)
	switch {
	case !a.may(policy.Launch):
		return l, denied(a, "launch workspaces")
	case l.TeamID != "" && !slices.Contains(a.Teams(), l.TeamID) && l.MadeBy.ID != a.ID:
		return l, forbidden("this launch link is for "+l.Team, "ask "+l.MadeBy.Name)
	case maker != "":
		return l, conflict("link-over", maker, "ask "+l.MadeBy.Name)
	case l.PeopleMost > 0 && l.Used >= l.PeopleMost && used != nil:
		return l, conflict("link-over", fmt.Sprintf("%d people have used this launch link, as many as may", l.Used), "ask "+l.MadeBy.Name)
	}
	return l, nil
}

// stands says why a link cannot be used now by anybody; "" where it can.
func (s *LaunchLinks) stands(ctx context.Context, q store.Q, l store.LaunchLink) (why string, err error) {
	maker, err := q.PersonByID(ctx, l.MadeBy.ID)
	switch {
	case err != nil:
		return "", err
	case maker.ClosedAt != nil, l.PausedAt != nil, !policy.May(maker.Role, policy.ChangeLinks, policy.Own):
		return "this launch link is paused", nil
	case l.Until != nil && !s.now().Before(*l.Until):
		return "this launch link has ended", nil
	}
	return "", nil
}

// guestKey is what the keys of enrolment begin with that are launch links.
const guestKey = "go-"

// Lets is the enrolment of a guest by a launch link, where it lets any in now: their
// access is to what it launches, in its size, for the time it says. Whoever made it must
// still be able to bring in guests.
func (s *LaunchLinks) Lets(ctx context.Context, id string) (store.Enrolment, error) {
	q := s.store.Read()
	l, err := q.LaunchLinkByID(ctx, id)
	if err != nil || l.GuestFor == 0 {
		return store.Enrolment{}, cmp.Or(err, store.ErrNotFound)
	}
	why, err := s.stands(ctx, q, l)
	if err != nil || why != "" {
		return store.Enrolment{}, cmp.Or(err, store.ErrNotFound)
	}
	maker, err := q.PersonByID(ctx, l.MadeBy.ID)
	if err != nil {
		return store.Enrolment{}, err
	}
	if a := (Actor{Person: maker}); !a.mayOf(policy.ChangeGuests, store.Person{ID: l.TeamID, TeamID: l.TeamID}) || l.Guests >= l.PeopleMost {
		return store.Enrolment{}, store.ErrNotFound
	}
	g := store.Guest{Until: s.now().Add(l.GuestFor).UTC(), Repositories: []string{l.RepositoryID}, By: maker.ID}
	launch := s.view(l).Launch
	if launch.Size != "" {
		g.Sizes = []string{launch.Size}
	}
	for _, b := range launch.Beside {
		name, _, _ := strings.Cut(b, "@")
		r, err := q.RepositoryByName(ctx, name)
		if err != nil {
			return store.Enrolment{}, err
		}
		g.Repositories = append(g.Repositories, r.ID)
	}
	return store.Enrolment{ID: l.ID, Role: policy.Guest, TeamID: l.TeamID, Team: l.Team, MadeBy: maker.ID, ExpiresAt: *l.Until, Guest: &g}, nil
}

// Offer tells what one comes to for the actor.
func (s *LaunchLinks) Offer(ctx context.Context, a Actor, id string) (wire.LinkOffer, error) {
	l, err := s.usable(ctx, s.store.Read(), a, id)
	if err != nil {
		return wire.LinkOffer{}, err
	}
	v := wire.LinkOffer{Title: l.Title, MadeBy: l.MadeBy.Name}
	if u, ok, err := s.theirs(ctx, s.store.Read(), l.ID, a); err != nil {
		return v, err
	} else if ok {
		v.Yours, v.Phase = u.Workspace+"."+a.Name, u.Phase
	}
	v.Preflight, err = s.launches.Preflight(ctx, a, s.view(l).Launch.Launch())
	return v, err
}

// theirs is the workspace that somebody has by a link, where it is there still.
func (s *LaunchLinks) theirs(ctx context.Context, q store.Q, id string, a Actor) (store.LinkUse, bool, error) {
	u, err := q.LinkUseOf(ctx, id, a.ID)
	if errors.Is(err, store.ErrNotFound) {
		return u, false, nil
	}
	gone := u.Phase == string(lifecycle.Removing) || u.Phase == string(lifecycle.Removed)
	return u, err == nil && !gone, err
}

// errTheirs ends a launch of somebody who has one by the link already.
var errTheirs = errors.New("they have one")

// Use gives the actor a workspace of their own by a link: a new one, or the one that
// they have by it, which is started where it was stopped.
func (s *LaunchLinks) Use(ctx context.Context, a Actor, id string) (wire.UsedLink, error) {
	l, err := s.usable(ctx, s.store.Read(), a, id)
	if err != nil {
		return wire.UsedLink{}, err
	}
	u, ok, err := s.theirs(ctx, s.store.Read(), l.ID, a)
	if err != nil {
		return wire.UsedLink{}, err
	}
	if !ok {
		// Whether they have one, and whether they may have another, is said where it
		// is written: of two that ask at once one gets it, and the other is led there.
		w, err := s.launches.launch(ctx, a, s.view(l).Launch.Launch(), func(tx *store.Tx, w store.Workspace) error {
			if _, err := s.usable(ctx, tx.Q, a, id); err != nil {
				return err
			}
			var err error
			if u, ok, err = s.theirs(ctx, tx.Q, l.ID, a); err != nil || ok {
				return cmp.Or(err, errTheirs)
			}
			if err := tx.UseLaunchLink(ctx, l.ID, a.ID, w.ID); err != nil {
				return err
			}
			return tx.Journal(ctx, l.ID, a.ID, a.ID, journal.LaunchLinkUsed{Title: l.Title, Workspace: w.Name})
		})
		if err == nil {
			return wire.UsedLink{Workspace: w.Name + "." + a.Name, Fresh: true}, nil
		}
		if !errors.Is(err, errTheirs) {
			return wire.UsedLink{}, err
		}
	}
	out := wire.UsedLink{Workspace: u.Workspace + "." + a.Name}
	if u.Phase == string(lifecycle.Stopped) {
		_, err = s.works.Start(ctx, a, out.Workspace)
	}
	return out, err
}

// Plate is what a badge of a link says; ok is false where there is no such link.
func (s *LaunchLinks) Plate(ctx context.Context, id string) (title string, usable, ok bool, err error) {
	l, err := s.store.Read().LaunchLinkByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return "", false, false, nil
	}
	over := l.PausedAt != nil || l.Until != nil && !s.now().Before(*l.Until)
	return l.Title, !over, err == nil, err
}

// Address is where a link leads.
func (s *LaunchLinks) Address(id string) string { return s.address + "/go/" + id }
