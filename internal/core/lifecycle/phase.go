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

// Reserves tells whether a workspace in the phase counts for limits as one that runs.
func (p Phase) Reserves() bool {
	return p == Waiting || p == Preparing || p == Starting || p == Ready || p == Stopping
}

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
	Use     Verb = "use"    // a terminal or a run
	LetGo   Verb = "let go" // of an adopted one
)

var verbs = map[Verb][]Phase{
	Start:   {Stopped, Failed, Ready},
	Stop:    {Waiting, Preparing, Starting, Ready, Failed, Stopped},
	Rebuild: {Ready, Stopped, Failed},
	Remove:  {Waiting, Preparing, Starting, Ready, Stopping, Stopped, Failed, Removing},
	Use:     {Ready},
	LetGo:   {Waiting, Starting, Ready, Stopping, Stopped, Failed, Removing},
}

// permitted tells whether a verb is possible in a phase. An adopted container
// is not ours to make anew or to take away; it is let go.
func permitted(v Verb, p Phase, adopted bool) bool {
	if adopted && (v == Rebuild || v == Remove) || !adopted && v == LetGo {
		return false
	}
	return slices.Contains(verbs[v], p)
}

// NotNow is the refusal of a verb in a phase.
type NotNow struct {
	Verb    Verb
	Phase   Phase
	Adopted bool
}

func (e NotNow) Error() string {
	can := can(e.Phase, e.Adopted)
	switch {
	case e.Adopted && slices.Contains(verbs[e.Verb], e.Phase):
		return fmt.Sprintf("%s is not possible: its container was made by others, and is only taken on; possible now: %s", e.Verb, strings.Join(can, ", "))
	case !e.Adopted && e.Verb == LetGo:
		return fmt.Sprintf("%s is not possible: its container was not taken on, but made by its keeper; possible now: %s", e.Verb, strings.Join(can, ", "))
	case len(can) == 0:
		return fmt.Sprintf("%s is not possible: the workspace is %s", e.Verb, e.Phase)
	}
	return fmt.Sprintf("%s is not possible while the workspace is %s; possible now: %s", e.Verb, e.Phase, strings.Join(can, ", "))
}

// can lists the verbs that are possible in a phase.
func can(p Phase, adopted bool) (out []string) {
	for _, v := range []Verb{Use, Start, Stop, Rebuild, Remove, LetGo} {
		if permitted(v, p, adopted) {
			out = append(out, string(v))
		}
	}
	return out
}

// Permit tells whether a verb is possible in a phase, of a workspace that was
// adopted or of one of ours; its error is a [NotNow].
func Permit(v Verb, p Phase, adopted bool) error {
	if permitted(v, p, adopted) {
		return nil
	}
	return NotNow{v, p, adopted}
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
	DiskFull       ConditionKind = "disk full"
	WaitsForYard   ConditionKind = "waits for the yard"
	OutOfMemory    ConditionKind = "out of memory"
	IdleNow        ConditionKind = "idle"
	Held           ConditionKind = "held"
	SecretsChanged ConditionKind = "secrets changed"
	UnpushedWork   ConditionKind = "unpushed work"
	OverLimit      ConditionKind = "over limit"
	RebuildDue     ConditionKind = "rebuild due"
	Adopted        ConditionKind = "adopted"
	Notice         ConditionKind = "notice"
	Errand         ConditionKind = "errand"
	PushWaits      ConditionKind = "push waits"
	PushAllowed    ConditionKind = "push allowed"
	SecretAsked    ConditionKind = "secret asked"
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
	AdoptSheet   SheetKind = "adopt"
	LetGoSheet   SheetKind = "let go"
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
