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
	// Actions are what may be done about it, the most useful first; Next says in
	// words what they are for.
	Actions []Action
	// Limits are those that it would go over, and Rules the version of the house
	// rules that has them; Workspace is the one that it is about, as NAME.OWNER.
	Limits    []Limit
	Rules     int
	Workspace string
	After     time.Duration // when to ask again; 0 is not said
	Output    string        // what a program said of it, in full; may be empty
	Now       any           // how the thing stands now, as the door tells of it; nil is not said
}

// Action is something that may be done: an operation of the HTTP door by its id,
// what it is done to, and which of its parameters are to be true. Every door says
// it in its own way: as a command, a link.
type Action struct {
	Rel, Subject string
	With         []string
}

// Do is an action.
func Do(rel, subject string, with ...string) Action { return Action{rel, subject, with} }

// Limit is a limit and how what was asked stands to it, in numbers of its kind.
type Limit struct {
	Kind, Whose          string
	Used, Asked, Allowed int64
	Text                 string // the same for people
	Line                 int    // of the house rules' document, where it is written; 0 where it is not
}

// Part is what is wrong with one part of what was asked.
type Part struct {
	Field  string // a JSON Pointer (RFC 6901) into what was asked, or a place in a file
	Detail string
}

// Error is the fault on one line.
func (f *Fault) Error() string {
	s := f.Detail
	for _, l := range f.Limits {
		s += "; " + l.Kind + ", " + l.Whose + ": " + l.Text
	}
	for _, p := range f.Parts {
		s += "; " + p.Field + ": " + p.Detail
	}
	if f.Next != "" {
		s += "; " + f.Next
	}
	return s
}
