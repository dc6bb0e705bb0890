package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/fault"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Teams lists the teams.
func (s *People) Teams(ctx context.Context, a Actor) ([]wire.Team, error) {
	if !a.may(policy.SeePeople) {
		return nil, denied(a, "see the teams")
	}
	rows, err := s.store.Read().Teams(ctx)
	out := []wire.Team{}
	for _, t := range rows {
		out = append(out, wire.Team{Name: t.Name})
	}
	return out, err
}

func teamName(name string) (string, error) {
	name = strings.TrimSpace(name)
	if name == "" || hasControl(name) || len(name) > 40 {
		return "", invalid(quote(name)+" is no name of a team", "use at most 40 letters")
	}
	return name, nil
}

// AddTeam adds a team. One of that name that was removed comes back, with what was spent
// under it.
func (s *People) AddTeam(ctx context.Context, a Actor, in wire.NewTeam) (wire.Team, error) {
	if !a.may(policy.ChangePeople) {
		return wire.Team{}, denied(a, "add teams")
	}
	name, err := teamName(in.Name)
	if err != nil {
		return wire.Team{}, err
	}
	return wire.Team{Name: name}, s.store.Write(ctx, func(tx *store.Tx) error {
		if err := freeTeam(ctx, tx, name, ""); err != nil {
			return err
		}
		if err := tx.AddTeam(ctx, store.Team{ID: store.NewID(), Name: name}); err != nil {
			return err
		}
		t, err := tx.TeamByName(ctx, name)
		if err != nil {
			return err
		}
		return tx.Journal(ctx, t.ID, "", a.ID, journal.TeamAdded{Name: t.Name})
	})
}

// freeTeam tells whether no other team has a name, whatever the case it is written in.
func freeTeam(ctx context.Context, tx *store.Tx, name, id string) error {
	t, err := tx.TeamByName(ctx, name)
	switch {
	case errors.Is(err, store.ErrNotFound), err == nil && t.ID == id:
		return nil
	case err == nil:
		return conflict("name-taken", "there is a team "+quote(t.Name)+" already", "")
	}
	return err
}

// RenameTeam gives a team another name. Where the house rules name it they name the new
// one already: else what they say of it would be of nobody.
func (s *People) RenameTeam(ctx context.Context, a Actor, name string, in wire.TeamChange) (wire.Team, error) {
	t, in2, err := s.changed(ctx, a, name)
	if err != nil {
		return wire.Team{}, err
	}
	to, err := teamName(in.Name)
	if err != nil {
		return wire.Team{}, err
	}
	if in2.names(t.Name) && !in2.names(to) {
		return wire.Team{}, conflict("team-in-rules", "the house rules say something of "+quote(t.Name)+", and nothing of "+quote(to), "say there what holds for the new name, beside the old", fault.Do("list-rules", ""))
	}
	return wire.Team{Name: to}, s.store.Write(ctx, func(tx *store.Tx) error {
		if err := freeTeam(ctx, tx, to, t.ID); err != nil {
			return err
		}
		if err := tx.RenameTeam(ctx, t.ID, to); store.IsDuplicate(err) {
			return conflict("name-taken", "there was a team "+quote(to)+", and what was spent under it keeps the name", "choose another")
		} else if err != nil {
			return err
		}
		return tx.Journal(ctx, t.ID, "", a.ID, journal.TeamRenamed{From: t.Name, To: to})
	})
}

// RemoveTeam removes a team that has nothing and nobody any more; what was spent under it
// keeps its name.
func (s *People) RemoveTeam(ctx context.Context, a Actor, name string) error {
	t, in, err := s.changed(ctx, a, name)
	if err != nil {
		return err
	}
	if in.names(t.Name) {
		return conflict("team-in-rules", "the house rules say something of "+quote(t.Name), "take it out there first", fault.Do("list-rules", ""))
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		h, err := tx.TeamHas(ctx, t.ID, tx.Now())
		if err != nil {
			return err
		}
		var has []string
		for _, c := range []struct {
			n    int
			what string
		}{{h.People, "people in it"}, {h.Repositories, "repositories"}, {h.Links, "launch links"}, {h.Enrolments, "enrolment links"}, {h.Secrets, "secrets"}} {
			if c.n > 0 {
				has = append(has, fmt.Sprintf("%s: %d", c.what, c.n))
			}
		}
		if len(has) > 0 {
			return conflict("team-in-use", quote(t.Name)+" is no empty team: "+strings.Join(has, ", "), "give them another team, or remove them, first", fault.Do("list-people", ""))
		}
		if err := tx.RemoveTeam(ctx, t.ID); err != nil {
			return err
		}
		return tx.Journal(ctx, t.ID, "", a.ID, journal.TeamRemoved{Name: t.Name})
	})
}

// named are the house rules, as to what they name.
type named struct{ in []rules.Named }

func (n named) names(team string) bool {
	return slices.ContainsFunc(n.in, func(m rules.Named) bool { return m.Kind == "team" && strings.EqualFold(m.Name, team) })
}

// changed is a team that the actor may change, and what the house rules name.
func (s *People) changed(ctx context.Context, a Actor, name string) (t store.Team, in named, err error) {
	if !a.may(policy.ChangePeople) {
		return t, in, denied(a, "change teams")
	}
	t, err = s.store.Read().TeamByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return t, in, notFound("team", name, "see them", fault.Do("list-teams", ""))
	}
	if err != nil {
		return t, in, err
	}
	house, err := s.house.Whole(ctx, s.store.Read())
	return t, named{house.Names}, err
}

func (s *People) team(ctx context.Context, name string) (store.Team, error) {
	if name == "" {
		return store.Team{}, nil
	}
	t, err := s.store.Read().TeamByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return t, notFound("team", name, "see them", fault.Do("list-teams", ""))
	}
	return t, err
}
