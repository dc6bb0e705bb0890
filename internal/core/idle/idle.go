// Package idle says whether a workspace is being worked in, when it is warned,
// and when it is put to rest. Disconnecting is not stopping, and an open
// window is no work: only signs of work count.
//
// It is part of the core: plain functions, with the time as an argument.
package idle

import (
	"fmt"
	"time"
)

// Signs are the last times something showed that a workspace is worked in.
// A zero time means never.
type Signs struct {
	Up     time.Time // it came up, or was asked for
	Typed  time.Time // keystrokes and other input
	Read   time.Time // output while somebody was looking
	Port   time.Time // a request to one of its ports
	Busy   time.Time // processor use above the floor
	Number int       // of the port asked last
}

// Last is the newest sign, and what it was.
func (s Signs) Last() (at time.Time, what string) {
	at, what = s.Up, "it came up"
	for _, c := range []struct {
		at   time.Time
		what string
	}{{s.Busy, "its processor was busy"}, {s.Read, "output was read"}, {s.Port, fmt.Sprintf("port %d was asked", s.Number)}, {s.Typed, "something was typed"}} {
		if c.at.After(at) {
			at, what = c.at, c.what
		}
	}
	return at, what
}

// Terms are the rules for one workspace.
type Terms struct {
	Quiet time.Duration // without a sign for so long it counts as idle
	Rest  time.Duration // without a sign for so long it is stopped
	Warn  time.Duration // so long before that it is warned
	Hold  time.Time     // it is not stopped before
	// NotBefore is a time before which it is not stopped in any case; it is no hold.
	NotBefore time.Time
	Never     bool // it is never stopped: it is not ours to put to rest
}

// Verdict is how a workspace stands now.
type Verdict struct {
	Last   time.Time // the newest sign of work
	What   string
	Idle   bool
	Held   bool
	Warn   bool // it is about to be stopped
	Stop   bool
	StopAt time.Time // when it will be stopped, without another sign; zero is never
	Next   time.Time // when to judge again, without another sign; zero is not by itself
}

// Judge says how a workspace stands at now.
func Judge(now time.Time, s Signs, t Terms) Verdict {
	v := Verdict{Held: t.Hold.After(now)}
	v.Last, v.What = s.Last()
	if t.Never {
		if quiet := v.Last.Add(t.Quiet); now.Before(quiet) {
			v.Next = quiet
		} else {
			v.Idle = true
		}
		return v
	}
	v.StopAt = v.Last.Add(t.Rest)
	if t.Hold.After(v.StopAt) {
		v.StopAt = t.Hold
	}
	if t.NotBefore.After(v.StopAt) {
		v.StopAt = t.NotBefore
	}
	quiet, warn := v.Last.Add(t.Quiet), v.StopAt.Add(-t.Warn)
	v.Idle = !now.Before(quiet)
	v.Stop = !now.Before(v.StopAt)
	v.Warn = v.Idle && !v.Stop && !now.Before(warn)
	if v.Stop {
		return v
	}
	v.Next = v.StopAt
	for _, at := range []time.Time{quiet, warn, t.Hold} {
		if at.After(now) && at.Before(v.Next) {
			v.Next = at
		}
	}
	return v
}
