// Package operation says what one verb for many workspaces is: what may be
// asked, how it stands with each of them, and when it is over with one.
//
// It is part of the core: plain functions over plain values.
package operation

import (
	"cmp"
	"slices"

	"yardbench/internal/core/lifecycle"
)

// Verb is what is asked of each workspace.
type Verb string

// The verbs. Tell puts a notice before the owner of each.
const (
	Start   Verb = "start"
	Stop    Verb = "stop"
	Rebuild Verb = "rebuild"
	Hold    Verb = "hold"
	LetRest Verb = "let rest"
	Remove  Verb = "remove"
	Tell    Verb = "tell"
)

// Verbs lists them all.
var Verbs = []Verb{Start, Stop, Rebuild, Hold, LetRest, Remove, Tell}

// NeedsReason tells whether a verb says nothing to whom it meets without one.
func (v Verb) NeedsReason() bool { return v == Hold || v == Tell }

// State is how an operation stands with one workspace.
type State string

// The states. Waiting and UnderWay are not over.
const (
	Waiting   State = "waiting"   // its turn has not come
	UnderWay  State = "under way" // it was asked, and is not over
	Done      State = "done"
	Failed    State = "failed"    // it was asked, and came to something else
	Refused   State = "refused"   // it was not possible, or not allowed
	Cancelled State = "cancelled" // its turn never came
)

// States lists them all.
var States = []State{Waiting, UnderWay, Done, Failed, Refused, Cancelled}

// Over tells whether nothing more comes of it.
func (s State) Over() bool { return s != Waiting && s != UnderWay }

// Seen is how a workspace was found after it was asked.
type Seen struct {
	Phase      lifecycle.Phase
	Cause      string
	Rebuilding bool
	Body       int
	// Goal is the number of the body that a rebuild was to bring; 0 where none is.
	Goal int
	// SheetCause is why its newest launch sheet ended otherwise than wanted.
	SheetCause string
}

// Judge says how it stands with a workspace of which a verb was asked, and why
// where that is neither under way nor done.
func Judge(v Verb, s Seen) (State, string) {
	failed := s.Phase == lifecycle.Failed
	gone := s.Phase == lifecycle.Removing || s.Phase == lifecycle.Removed
	switch {
	case v == Hold || v == LetRest || v == Tell:
		return Done, "" // with the asking
	case v == Remove && s.Phase == lifecycle.Removed:
		return Done, ""
	case v != Remove && gone:
		return Failed, "it was removed meanwhile"
	case failed:
		return Failed, s.Cause
	case v == Remove && s.Phase.Settled():
		return Failed, "something else was asked of it meanwhile: it is " + string(s.Phase)
	case v == Stop && (s.Phase == lifecycle.Stopping || s.Rebuilding):
		return UnderWay, ""
	case v == Stop:
		return Done, "" // it stopped; that somebody starts it again is another matter
	case (v == Start || v == Rebuild) && (s.Phase == lifecycle.Stopped || s.Phase == lifecycle.Stopping):
		return Failed, cmp.Or(s.Cause, "it was stopped meanwhile")
	case v == Rebuild && s.Phase == lifecycle.Ready && !s.Rebuilding && s.Body < s.Goal:
		return Failed, cmp.Or(s.SheetCause, "the new container could not be made; the old one is in use")
	case s.Phase == lifecycle.Ready && !s.Rebuilding:
		return Done, ""
	}
	return UnderWay, ""
}

// Count is how many outcomes are in each state.
type Count map[State]int

// Left is how many are not over.
func (c Count) Left() int { return c[Waiting] + c[UnderWay] }

// Bad tells whether something came to another end than wanted.
func (c Count) Bad() bool { return c[Failed]+c[Refused]+c[Cancelled] > 0 }

// Known tells whether it is one of the verbs.
func (v Verb) Known() bool { return slices.Contains(Verbs, v) }
