package service

import (
	"fmt"
	"slices"
	"time"

	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Actor is who asks: a signed-in person.
type Actor struct {
	store.Person
	TokenID string
	// Token tells that they came by a token for programs, and not by a sign-in.
	Token bool
	// Earlier tells that they came by a value that their sign-in does not have any more.
	Earlier bool
	// Since is when they signed in with it.
	Since time.Time
	// Grant is how much of what they may do they may do by this sign-in.
	Grant policy.Grant
	// Operation is the one by which it is asked, and Why its reason; empty where
	// it is asked by itself.
	Operation, Why string
}

// may tells whether the actor may do an action with what is nobody's in
// particular.
func (a Actor) may(action policy.Action) bool {
	return a.Grant.Reaches(action) && (policy.May(a.Role, action, policy.House) || a.LeadsAnother() && policy.May(policy.Lead, action, policy.House))
}

// holds tells whether what belongs to a repository is the actor's to reach: by this
// sign-in, and as a guest.
func (a Actor) holds(repository string) bool {
	return a.Grant.Holds(repository) && (a.Guest == nil || slices.Contains(a.Guest.Repositories, repository))
}

// mayOf tells whether the actor may do an action with somebody's matter.
func (a Actor) mayOf(action policy.Action, owner store.Person) bool {
	of := policy.Between(a.ID, a.Teams(), owner.ID, owner.TeamID)
	role := a.Role
	if of == policy.Team {
		role = a.RoleIn(owner.TeamID)
	}
	return a.Grant.Reaches(action) && policy.May(role, action, of)
}

// leadsOneOf tells whether the actor leads a team that somebody is in.
func (a Actor) leadsOneOf(p store.Person) bool {
	return a.Grant.Reaches(policy.SeePeople) && slices.ContainsFunc(p.Teams(), func(team string) bool {
		return slices.Contains(a.Teams(), team) && a.RoleIn(team) == policy.Lead
	})
}

// rights lists what the actor may ask, and of whose matters.
func (a Actor) rights() []wire.Right {
	all := []wire.Right{}
	for _, action := range policy.Actions() {
		of := policy.Table[action][a.Role]
		if a.TeamID == "" {
			of &^= policy.Team
		}
		for _, m := range a.Also {
			of |= policy.Table[action][a.RoleIn(m.TeamID)] & (policy.Team | policy.House)
		}
		if of != 0 && a.Grant.Reaches(action) {
			all = append(all, wire.Right{Action: string(action), Of: of.Names()})
		}
	}
	return all
}

// Widest is the widest relation over which the actor may do an action; 0 when
// they may not at all.
func (a Actor) Widest(action policy.Action) policy.Relation {
	if !a.Grant.Reaches(action) {
		return 0
	}
	widest := policy.Widest(a.Role, action)
	if widest < policy.Team && a.LeadsAnother() {
		widest = max(widest, policy.Widest(policy.Lead, action))
	}
	return widest
}

// Refusal says why the actor may not do an action with anything at all; nil where
// they may.
func (a Actor) Refusal(action policy.Action) error {
	switch {
	case !a.Grant.Reaches(action):
		return &fault.Fault{Class: fault.Denied, Kind: "scope", Detail: "this token does not reach that: " + string(action), Next: "have one made with a scope that has it, and for all repositories where it belongs to none; see docs/api.md"}
	case a.Widest(action) == 0:
		return forbidden("your role, "+string(a.Role)+", does not allow this: "+string(action), "ask an operator")
	}
	return nil
}

// beyond is the refusal of a token that would reach further than the one that it
// is made with.
func (a Actor) beyond() error {
	return &fault.Fault{Class: fault.Denied, Kind: "scope", Detail: "a token reaches no further than the one that it is made with", Next: "make it with scopes and repositories that this one has"}
}

// denied is the refusal of an action that one may know of.
func denied(a Actor, what string) error {
	return forbidden(fmt.Sprintf("your role, %s, does not allow you to %s", a.Role, what), "ask an operator")
}

// scope is whose matters the actor may see a list of, at the widest. ok is
// false when they may see none.
func (a Actor) scope(action policy.Action) (s store.Scope, ok bool) {
	switch a.Widest(action) {
	case policy.Other:
		return store.Scope{}, true
	case policy.Team:
		s.OwnerID = a.ID
		for _, team := range a.Teams() {
			if policy.May(a.RoleIn(team), action, policy.Team) {
				s.Teams = append(s.Teams, team)
			}
		}
		return s, true
	case policy.Own:
		return store.Scope{OwnerID: a.ID}, true
	}
	return s, false
}
