package service

import (
	"cmp"
	"context"
	"strings"

	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Programs are the use cases of accounts that belong to a team and to no person:
// what a program does goes on when the person who set it up is gone.
type Programs struct {
	store   *store.Store
	people  *People
	signIns *SignIns
}

// Add makes an account for programs of a team.
func (s *Programs) Add(ctx context.Context, a Actor, in wire.NewProgram) (wire.Person, error) {
	t, err := s.people.team(ctx, strings.TrimSpace(in.Team))
	if err != nil {
		return wire.Person{}, err
	}
	p := store.Person{ID: store.NewID(), Name: in.Name, FullName: strings.TrimSpace(in.Purpose), Email: cmp.Or(in.Email, in.Name+"@programs.invalid"), // RFC 2606: it leads nowhere
		Role: policy.Role(cmp.Or(in.Role, string(policy.Developer))), TeamID: t.ID, Team: t.Name, Program: true}
	switch {
	case t.ID == "":
		return wire.Person{}, invalid("the team is missing", "say whose it is: programs belong to a team")
	case !a.mayOf(policy.ChangeServices, p):
		return wire.Person{}, denied(a, "make accounts for programs of "+t.Name)
	case p.Role != policy.Developer && !a.may(policy.ChangePeople):
		return wire.Person{}, denied(a, "make an account that is more than a developer")
	case p.Role == policy.Lead || !p.Role.Valid():
		return wire.Person{}, invalid("a program is no "+quote(string(p.Role)), "it is a developer, an auditor or an operator")
	}
	if err := checkAccount(p); err != nil {
		return wire.Person{}, err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error { return addPerson(ctx, tx, p, a.ID, "") })
	return personView(p), nameOfPersonTaken(err, p.Name)
}

// find finds an account of programs whose tokens the actor may change.
func (s *Programs) find(ctx context.Context, a Actor, name string) (store.Person, error) {
	p, err := s.people.person(ctx, a, name, policy.ChangeServices)
	if err == nil && !p.Program {
		err = conflict("no-program", quote(p.Name)+" is a person, who alone makes and ends their tokens", "close the account, if it is to end", fault.Do("change-person", p.Name, "closed"))
	}
	if err == nil && p.Role != policy.Developer && !a.may(policy.ChangePeople) {
		err = denied(a, "make tokens of an account that is more than a developer")
	}
	return p, err
}

// Tokens lists the tokens of an account of programs.
func (s *Programs) Tokens(ctx context.Context, a Actor, name string) ([]wire.Token, error) {
	p, err := s.find(ctx, a, name)
	if err != nil {
		return nil, err
	}
	return s.signIns.tokens(ctx, a, p.ID)
}

// MakeToken makes one.
func (s *Programs) MakeToken(ctx context.Context, a Actor, name string, in wire.NewToken) (wire.MadeToken, error) {
	p, err := s.find(ctx, a, name)
	if err != nil {
		return wire.MadeToken{}, err
	}
	if p.ClosedAt != nil {
		return wire.MadeToken{}, conflict("not-now", "the account of "+quote(p.Name)+" is closed", "open it", fault.Do("change-person", p.Name))
	}
	t, err := s.signIns.makeToken(ctx, a, p, in)
	t.Of = p.Name
	return t, err
}

// EndToken ends one.
func (s *Programs) EndToken(ctx context.Context, a Actor, name, id string) error {
	p, err := s.find(ctx, a, name)
	if err != nil {
		return err
	}
	return s.signIns.endToken(ctx, a, p.ID, id)
}
