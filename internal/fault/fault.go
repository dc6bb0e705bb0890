// Package fault says what went wrong in a use case, for whoever asked: which
// kind of thing, what happened, what to do next. It knows of no door; each
// door says in its own way what a class of faults is there.
package fault

import "time"

// Class is what a fault is to whoever asked: what they can do about it.
type Class int

// The classes of faults.
const (
	Invalid  Class = iota + 1 // what was asked makes no sense as it stands
	Stranger                  // it is not known who asks
	Denied                    // who asks may not
	Missing                   // there is no such thing, or none that they may see
	Conflict                  // it does not go with how things stand now
	Stale                     // it is another than whoever asked has seen; see Now
	TooMany                   // it was asked too often; see After
	Away                      // something that is needed does not answer now
	NoRoom                    // there is no room to write it down
)

// Fault is an error for whoever asked. Its fields are for people but Class and
// Kind, which programs tell apart.
type Fault struct {
	Class  Class
	Kind   string // within its class: name-taken, say; part of the door's contract
	Detail string // what happened, naming the thing
	Next   string // what to do about it; may be empty
	Parts  []Part
	After  time.Duration // when to ask again; 0 is not said
	Now    any           // how the thing stands now, as the door tells of it; nil is not said
}

// Part is what is wrong with one part of what was asked.
type Part struct{ Field, Detail string }

// Error is the fault on one line.
func (f *Fault) Error() string {
	s := f.Detail
	for _, p := range f.Parts {
		s += "; " + p.Field + ": " + p.Detail
	}
	if f.Next != "" {
		s += "; " + f.Next
	}
	return s
}
