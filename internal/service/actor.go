package service

import (
	"fmt"

	"yardbench/internal/core/policy"
	"yardbench/internal/store"
)

// Actor is who asks: a signed-in person.
type Actor struct {
	store.Person
	TokenID string
	// Operation is the one by which it is asked, and Why its reason; empty where
	// it is asked by itself.
	Operation, Why string
}

// may tells whether the actor may do an action with what is nobody's in
// particular.
func (a Actor) may(action policy.Action) bool { return policy.May(a.Role, action, policy.House) }

// mayOf tells whether the actor may do an action with somebody's matter.
func (a Actor) mayOf(action policy.Action, owner store.Person) bool {
	return policy.May(a.Role, action, policy.Between(a.ID, a.TeamID, owner.ID, owner.TeamID))
}

// denied is the refusal of an action that one may know of.
func denied(a Actor, what string) error {
	return forbidden(fmt.Sprintf("your role, %s, does not allow you to %s", a.Role, what), "ask an operator")
}

// scope is whose matters the actor may see a list of, at the widest. ok is
// false when they may see none.
func (a Actor) scope(action policy.Action) (s store.Scope, ok bool) {
	switch policy.Widest(a.Role, action) {
	case policy.Other:
		return store.Scope{}, true
	case policy.Team:
		if a.TeamID != "" {
			return store.Scope{TeamID: a.TeamID}, true
		}
		return store.Scope{OwnerID: a.ID}, true
	case policy.Own:
		return store.Scope{OwnerID: a.ID}, true
	}
	return s, false
}
