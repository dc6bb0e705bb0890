// Package lifecycle says what a workspace's life may look like: its phases
// and conditions, the moves people may ask for, the launch sheet, and the one
// question the keeper asks again and again: what must be done next?
//
// It is part of the core: plain functions over plain values, no clock, disk,
// network or database of its own.
package lifecycle

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Phase is where a workspace stands.
type Phase string

// The phases, in the order of a life.
const (
	Waiting   Phase = "waiting"
	Preparing Phase = "preparing"
	Starting  Phase = "starting"
	Ready     Phase = "ready"
	Stopping  Phase = "stopping"
	Stopped   Phase = "stopped"
	Removing  Phase = "removing"
	Removed   Phase = "removed"
	Failed    Phase = "failed"
)

// Settled tells whether nothing is under way in the phase.
func (p Phase) Settled() bool {
	return p == Ready || p == Stopped || p == Removed || p == Failed
}

// Wanted is what a person asked a workspace to be.
type Wanted string

// What a workspace can be asked to be.
const (
	WantReady   Wanted = "ready"
	WantStopped Wanted = "stopped"
	WantRemoved Wanted = "removed"
)

// Verb is what a person may ask of a workspace that exists.
type Verb string

// The verbs.
const (
	Start   Verb = "start"
	Stop    Verb = "stop"
	Rebuild Verb = "rebuild"
	Remove  Verb = "remove"
	Use     Verb = "use" // a terminal or a run
)

var verbs = map[Verb][]Phase{
	Start:   {Stopped, Failed, Ready},
	Stop:    {Waiting, Preparing, Starting, Ready, Failed, Stopped},
	Rebuild: {Ready, Stopped, Failed},
	Remove:  {Waiting, Preparing, Starting, Ready, Stopping, Stopped, Failed, Removing},
	Use:     {Ready},
}

// NotNow is the refusal of a verb in a phase.
type NotNow struct {
	Verb  Verb
	Phase Phase
}

func (e NotNow) Error() string {
	var can []string
	for _, v := range []Verb{Use, Start, Stop, Rebuild, Remove} {
		if slices.Contains(verbs[v], e.Phase) {
			can = append(can, string(v))
		}
	}
	if len(can) == 0 {
		return fmt.Sprintf("%s is not possible: the workspace is %s", e.Verb, e.Phase)
	}
	return fmt.Sprintf("%s is not possible while the workspace is %s; possible now: %s", e.Verb, e.Phase, strings.Join(can, ", "))
}

// Permit tells whether a verb is possible in a phase; its error is a [NotNow].
func Permit(v Verb, p Phase) error {
	if slices.Contains(verbs[v], p) {
		return nil
	}
	return NotNow{v, p}
}

// Condition stands beside a phase.
type Condition struct {
	Kind   ConditionKind `json:"kind"`
	Reason string        `json:"reason"`
	Since  time.Time     `json:"since"`
}

// ConditionKind names a condition.
type ConditionKind string

// The conditions known so far.
const (
	Rebuilding     ConditionKind = "rebuilding"
	SetUpFailed    ConditionKind = "set-up failed"
	StewardAway    ConditionKind = "steward away"
	OutOfMemory    ConditionKind = "out of memory"
	IdleNow        ConditionKind = "idle"
	Held           ConditionKind = "held"
	SecretsChanged ConditionKind = "secrets changed"
	UnpushedWork   ConditionKind = "unpushed work"
	OverLimit      ConditionKind = "over limit"
	RebuildDue     ConditionKind = "rebuild due"
)

// SheetKind says what a launch sheet is the record of.
type SheetKind string

// The kinds of launch sheet.
const (
	LaunchSheet  SheetKind = "launch"
	StartSheet   SheetKind = "start"
	RebuildSheet SheetKind = "rebuild"
	StopSheet    SheetKind = "stop"
	RemoveSheet  SheetKind = "remove"
	PrebuildRun  SheetKind = "prebuild"
)

// Outcome is how a step or a sheet ended; empty while it runs.
type Outcome string

// The outcomes.
const (
	Done        Outcome = "done"
	FailedStep  Outcome = "failed"
	Skipped     Outcome = "skipped"
	Interrupted Outcome = "interrupted"
)
