// Package cost turns the journal into metered time, and metered time into
// money.
//
// It is part of the core: plain functions over plain values. Times are UTC
// with microseconds; money is millionths of the currency's unit, exact until
// the one rounding at the end.
package cost

import (
	"time"

	"yardbench/internal/core/lifecycle"
)

// Kind is what is metered.
type Kind string

// The kinds. At any moment a workspace has at most one of Running, Idle and
// Prebuild open; Stored goes on beside them until its files are gone.
const (
	Running  Kind = "running"  // a body is up, or coming up or down, and worked in
	Idle     Kind = "idle"     // a body is up and nobody works in it
	Stored   Kind = "stored"   // its disk exists
	Prebuild Kind = "prebuild" // a prebuild is made
)

// Kinds lists them all.
var Kinds = []Kind{Running, Idle, Stored, Prebuild}

// Event is what the journal says that matters to metering.
type Event struct {
	At time.Time
	// Phase is set when the workspace entered a phase.
	Phase lifecycle.Phase
	// Idle and Awake are set when it began to be idle, at Since, or no more.
	Idle, Awake bool
	Since       time.Time
}

// Change opens or closes an interval.
type Change struct {
	Kind Kind
	Open bool
	At   time.Time
}

// Apply says what an event changes, given the intervals that are open by the
// time they began. Applied to the journal of a workspace from its first entry,
// it gives intervals that never overlap within their group and cover exactly
// what ran: the same from a stored journal as while it was written.
func Apply(open map[Kind]time.Time, prebuild bool, e Event) (changes []Change) {
	begin := func(k Kind, at time.Time) {
		if _, is := open[k]; !is {
			changes = append(changes, Change{k, true, at})
		}
	}
	end := func(k Kind, at time.Time) {
		if from, is := open[k]; is {
			if at.Before(from) {
				at = from
			}
			changes = append(changes, Change{k, false, at})
		}
	}
	switch {
	case e.Idle:
		if from, is := open[Running]; is {
			since := e.Since
			if since.Before(from) {
				since = from
			}
			if since.After(e.At) {
				since = e.At
			}
			end(Running, since)
			begin(Idle, since)
		}
	case e.Awake:
		if _, is := open[Idle]; is {
			end(Idle, e.At)
			begin(Running, e.At)
		}
	case prebuild:
		switch e.Phase {
		case lifecycle.Preparing, lifecycle.Starting, lifecycle.Ready:
			begin(Prebuild, e.At)
		case lifecycle.Removing, lifecycle.Removed, lifecycle.Failed, lifecycle.Stopping, lifecycle.Stopped:
			end(Prebuild, e.At)
		}
	default:
		switch e.Phase {
		case lifecycle.Starting, lifecycle.Ready, lifecycle.Stopping:
			if _, idle := open[Idle]; !idle {
				begin(Running, e.At)
			}
			begin(Stored, e.At)
		case lifecycle.Stopped, lifecycle.Failed, lifecycle.Waiting, lifecycle.Preparing, lifecycle.Removing:
			end(Running, e.At)
			end(Idle, e.At)
		case lifecycle.Removed:
			end(Running, e.At)
			end(Idle, e.At)
			end(Stored, e.At)
		}
	}
	return changes
}
