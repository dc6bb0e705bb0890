package lifecycle

import (
	"slices"

	"yardbench/internal/core/definition"
)

// Action is one thing the keeper can do. Every action may be done again: one
// that was cut off is simply done anew.
type Action string

// The actions of a life.
const (
	MakeImage    Action = "image"     // build it, or make sure the yard has it
	MakeNetwork  Action = "network"   // the workspace's own network
	MakeVolume   Action = "volume"    // what holds the workspace folder
	MakeBody     Action = "container" // create the container
	StartBody    Action = "start"     // start the container
	AwaitSteward Action = "steward"   // until the steward has called
	Clone        Action = "clone"     // put the repository into the volume
	SwapBodies   Action = "swap"      // the new body takes the old one's place
	RunSetUp     Action = "set-up"    // one moment's commands
	KeepImage    Action = "keep"      // make the prepared image of the body
	StopBodies   Action = "stop"
	RemoveAll    Action = "remove"
)

// Actions are all there are.
var Actions = []Action{MakeImage, MakeNetwork, MakeVolume, MakeBody, StartBody, AwaitSteward, Clone, SwapBodies, RunSetUp, KeepImage, StopBodies, RemoveAll}

// Body is what is seen of one body of a workspace.
type Body string

// The states of a body.
const (
	Absent  Body = ""
	Created Body = "created"
	Running Body = "running"
	Ended   Body = "ended"
)

// State is what the records say of a workspace.
type State struct {
	Phase  Phase
	Wanted Wanted
	// Body numbers the body in use; 0 before the first. NextBody numbers the
	// one a rebuild is making; 0 when no rebuild is under way.
	Body, NextBody int
	// Volume and NextVolume number the volumes in the same way; a rebuild
	// that keeps the files leaves NextVolume 0.
	Volume, NextVolume int
	// HasImage tells that the image for the target body was made.
	HasImage bool
	// Seeded tells that the target volume holds the whole clone.
	Seeded bool
	// SetUp lists the moments of the definition, in order.
	SetUp []definition.Moment
	// Over tells which moments need not run any more: those that come once
	// and were run in the target body, and those already run at this start.
	// After a failure all of them are over.
	Over map[definition.Moment]bool
	// WaitFor is the moment after which the workspace may be used while the
	// others go on; "" is the last.
	WaitFor definition.Moment
	// Prebuild tells that the body is made to be kept as a prepared image: it
	// never becomes ready, and goes when that is done.
	Prebuild bool
	// Adopted tells that the body was made by others: it is started and
	// stopped, never made or removed.
	Adopted bool
}

// Target is the body that is being brought up.
func (s State) Target() int {
	if s.NextBody > 0 {
		return s.NextBody
	}
	return s.Body
}

// TargetVolume is the volume the target body works on.
func (s State) TargetVolume() int {
	if s.NextVolume > 0 {
		return s.NextVolume
	}
	return s.Volume
}

// Observed is what was seen of a workspace's yard.
type Observed struct {
	Network bool
	Volumes map[int]bool
	Bodies  map[int]Body
	Named   bool // volumes that bodies named
	// Steward tells that the target body's steward is connected.
	Steward bool
}

// Move is the keeper's next move: the phase to be in, and what to do there.
// A move without an action only changes the phase; the zero Move means that
// the workspace is as it is wanted.
type Move struct {
	Enter  Phase
	Action Action
	Moment definition.Moment // with RunSetUp
	// GoesOn tells, of a move that only changes the phase, that set-up is not
	// over with it.
	GoesOn bool
}

// Idle tells that there is nothing to do.
func (m Move) Idle() bool { return m == Move{} }

// Next says what must be done next. It is called again after every step, and
// after every restart of the service, and depends on nothing but its
// arguments.
func Next(s State, o Observed) Move {
	switch {
	case s.Phase == Removed:
		return Move{}
	case s.Phase == Failed:
		return Move{} // until somebody asks again
	case s.Wanted == WantRemoved:
		if s.Phase == Removing && nothingLeft(o) {
			return Move{Enter: Removed}
		}
		return Move{Enter: Removing, Action: RemoveAll}
	case s.Adopted && s.Phase == Stopped && o.Bodies[s.Body] == Running:
		return Move{Enter: Ready} // others started it again: it is theirs, too
	case s.Wanted == WantStopped:
		switch {
		case s.Phase == Stopped:
			return Move{}
		case s.Phase == Stopping && noneRuns(o) && s.NextBody == 0:
			return Move{Enter: Stopped}
		}
		return Move{Enter: Stopping, Action: StopBodies}
	case s.Phase == Ready && s.NextBody == 0 && o.Bodies[s.Body] != Running:
		// It ended behind our back: that is a stop, with the cause recorded.
		return Move{Enter: Stopped}
	}
	return up(s, o)
}

// up brings the target body up.
func up(s State, o Observed) Move {
	target := s.Target()
	in := func(p Phase, a Action) Move {
		if s.NextBody > 0 && s.Body > 0 && o.Bodies[s.Body] == Running && s.Phase == Ready {
			p = Ready // a rebuild goes on beside a workspace in use
		}
		return Move{Enter: p, Action: a}
	}
	switch {
	case s.Adopted && o.Bodies[target] != Running:
		return in(Starting, StartBody)
	case s.Adopted && s.Phase == Ready:
		return Move{} // a steward that is away is asked for again
	case s.Adopted && !o.Steward:
		return in(Starting, AwaitSteward)
	case s.Adopted:
		return Move{Enter: Ready}
	case !s.HasImage:
		return in(Preparing, MakeImage)
	case !o.Network:
		return in(Starting, MakeNetwork)
	case !o.Volumes[s.TargetVolume()]:
		return in(Starting, MakeVolume)
	case o.Bodies[target] == Absent:
		return in(Starting, MakeBody)
	case o.Bodies[target] != Running:
		return in(Starting, StartBody)
	case !o.Steward:
		if s.Phase == Ready && s.NextBody == 0 {
			return Move{} // it will call again; the condition says it is away
		}
		return in(Starting, AwaitSteward)
	case !s.Seeded:
		return in(Starting, Clone)
	case s.NextBody > 0:
		return in(Starting, SwapBodies)
	}
	for _, m := range s.SetUp {
		if !s.Over[m] {
			if m == definition.Personal && s.Phase != Ready {
				return Move{Enter: Ready, GoesOn: true}
			}
			if s.WaitFor != "" && after(m, s.WaitFor) && s.Phase != Ready && !s.Prebuild {
				return Move{Enter: Ready, GoesOn: true}
			}
			mv := in(Starting, RunSetUp)
			if s.Phase == Ready {
				mv.Enter = Ready
			}
			mv.Moment = m
			return mv
		}
	}
	if s.Prebuild {
		return Move{Enter: Starting, Action: KeepImage}
	}
	if s.Phase != Ready {
		return Move{Enter: Ready}
	}
	return Move{}
}

// after tells whether a moment comes after another.
func after(m, other definition.Moment) bool {
	return slices.Index(definition.Moments, m) > slices.Index(definition.Moments, other)
}

func noneRuns(o Observed) bool {
	for _, b := range o.Bodies {
		if b == Running {
			return false
		}
	}
	return true
}

func nothingLeft(o Observed) bool {
	for _, b := range o.Bodies {
		if b != Absent {
			return false
		}
	}
	for _, v := range o.Volumes {
		if v {
			return false
		}
	}
	return !o.Network && !o.Named
}
