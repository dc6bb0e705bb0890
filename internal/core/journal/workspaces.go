package journal

import (
	"time"

	"yardbench/internal/core/lifecycle"
)

// What happens to workspaces, and in them.

// WorkspaceLaunched begins a workspace.
type WorkspaceLaunched struct {
	Branch     string `json:"branch"`
	Commit     string `json:"commit"`
	DiskBytes  int64  `json:"disk_bytes"`
	For        string `json:"kind"` // person or prebuild
	Name       string `json:"name"`
	Repository string `json:"repository"`
	Size       string `json:"size"`
}

// WorkspaceAdopted begins one that is a container others started.
type WorkspaceAdopted struct {
	Container string `json:"container"`
	Image     string `json:"image"`
	Name      string `json:"name"`
}

// WorkspaceAsked is somebody asking for another state.
type WorkspaceAsked struct {
	Operation string         `json:"operation,omitempty"` // the one by which it was asked
	Reason    string         `json:"reason,omitempty"`
	Verb      lifecycle.Verb `json:"verb"`
}

// WorkspaceTold is a notice put before its owner.
type WorkspaceTold struct {
	Operation string `json:"operation,omitempty"`
	Reason    string `json:"reason"`
}

// PushesAllowed is an owner who lets what is in a workspace push.
type PushesAllowed struct {
	Until time.Time `json:"until"`
}

// PushesEnded is an owner who does not, or not any more.
type PushesEnded struct{}

// KeyAdded is a public key that lets its owner in by SSH.
type KeyAdded struct {
	ExpiresAt   time.Time `json:"expires_at"`
	Fingerprint string    `json:"fingerprint"`
}

// OperationAsked is one verb being asked of many workspaces.
type OperationAsked struct {
	Reason string `json:"reason"`
	Total  int    `json:"total"`
	Verb   string `json:"verb"`
}

// OperationCancelled leaves those alone whose turn had not come.
type OperationCancelled struct {
	Why string `json:"why"`
}

// OperationEnded is an operation that is over with all of them.
type OperationEnded struct {
	Cancelled int `json:"cancelled"`
	Done      int `json:"done"`
	Failed    int `json:"failed"`
	Refused   int `json:"refused"`
}

// WorkspacePhase is a move from one phase to another.
type WorkspacePhase struct {
	Cause string          `json:"cause"`
	From  lifecycle.Phase `json:"from"`
	To    lifecycle.Phase `json:"to"`
}

// ConditionBegun is a condition that a workspace has from now on.
type ConditionBegun struct {
	Condition lifecycle.ConditionKind `json:"kind"`
	Reason    string                  `json:"reason"`
	Since     time.Time               `json:"since"`
}

// ConditionOver is a condition that it has no more. Over is true.
type ConditionOver struct {
	Condition lifecycle.ConditionKind `json:"kind"`
	Over      bool                    `json:"over"`
}

// WorkspaceHeld keeps a workspace from being put to rest for a time.
type WorkspaceHeld struct {
	Until time.Time `json:"until"`
	Why   string    `json:"why"`
}

// HoldEnded ends that before its time, or with it.
type HoldEnded struct{}

// WorkspaceRested is a workspace being put to rest by the house rules.
type WorkspaceRested struct {
	Why string `json:"why"`
}

// WorkspaceExpired is one being removed that was stopped too long.
type WorkspaceExpired struct {
	StoppedAt time.Time `json:"stopped_at"`
}

// WorkspaceDiscarded is somebody giving up work that exists nowhere else.
type WorkspaceDiscarded struct{}

// ErrandOver removes a workspace that was for one command.
type ErrandOver struct {
	Why string `json:"why"`
}

// RebuildFailed leaves the workspace as it was.
type RebuildFailed struct {
	Cause string `json:"cause"`
}

// PortShared is a port being opened to everybody signed in, or to its owner's team,
// until a time if there is one; or closed again.
type PortShared struct {
	Port   int        `json:"port"`
	Shared bool       `json:"shared"`
	Team   bool       `json:"team,omitempty"`
	Public bool       `json:"public,omitempty"` // to anybody who comes
	Until  *time.Time `json:"until,omitempty"`
}

// LookLinkMade is a link by which whoever holds it may visit a port.
type LookLinkMade struct {
	Link  string    `json:"link"`
	Port  int       `json:"port"`
	Wakes bool      `json:"wakes,omitempty"`
	Until time.Time `json:"until"`
}

// LookLinkEnded is one that ended before its time.
type LookLinkEnded struct {
	Link   string `json:"link"`
	Port   int    `json:"port"`
	Visits int    `json:"visits"`
}

// RecordingBegun is a terminal being recorded from then on: as its workspace's owner
// asked, or as the house rules have it.
type RecordingBegun struct {
	Recording string `json:"recording"`
	Terminal  string `json:"terminal"`
	Asked     bool   `json:"asked"`
}

// RecordingEnded is a recording that is over.
type RecordingEnded struct {
	Recording string `json:"recording"`
	Terminal  string `json:"terminal"`
	Why       string `json:"why"`
}

// RecordingSeen is somebody else than the workspace's owner looking at a recording.
type RecordingSeen struct {
	Recording string `json:"recording"`
	Terminal  string `json:"terminal"`
}

// RecordingRemoved is a recording of which nothing is left.
type RecordingRemoved struct {
	Recording string `json:"recording"`
	Terminal  string `json:"terminal"`
}

// AttentionQuiet is a cause that needs nobody for a time.
type AttentionQuiet struct {
	What   string    `json:"what"`
	Reason string    `json:"reason"`
	Until  time.Time `json:"until"`
}

// AttentionAgain has it need somebody before that.
type AttentionAgain struct{}

// SessionOpened is a terminal or a command in a workspace, or that somebody looks into
// its files or changes some: what of them is its kind. What was typed, and which
// files, is nobody's to keep.
type SessionOpened struct {
	Secrets map[string]int `json:"secrets,omitempty"` // what it was given: the version by name
	What    string         `json:"-"`
}

// Entered is an operator who came into somebody else's workspace.
type Entered struct {
	Reason string `json:"reason"`
	What   string `json:"what"` // terminal or run
}

// Renewed is that what a workspace's definition started was begun anew, for the secrets
// as they are now: which commands, and what they were given.
type Renewed struct {
	Commands []string       `json:"commands"`
	Secrets  map[string]int `json:"secrets"`
}

// LookAllowed lets somebody look at a terminal of somebody else's for a time, or type
// into it.
type LookAllowed struct {
	Person   string    `json:"person"`
	Terminal string    `json:"terminal"`
	Writes   bool      `json:"writes"`
	Until    time.Time `json:"until"`
}

// FirstLineSet sets, or takes away, the line that each new terminal runs first; which
// it is is not said.
type FirstLineSet struct {
	Set bool `json:"set"`
}

// LookEnded lets them look no more, before that time.
type LookEnded struct {
	Person   string `json:"person"`
	Terminal string `json:"terminal"`
}

func (WorkspaceLaunched) Kind() string  { return "workspace.launched" }
func (WorkspaceAdopted) Kind() string   { return "workspace.adopted" }
func (ErrandOver) Kind() string         { return "workspace.errand-over" }
func (WorkspaceAsked) Kind() string     { return "workspace.asked" }
func (WorkspaceTold) Kind() string      { return "workspace.told" }
func (OperationAsked) Kind() string     { return "operation.asked" }
func (OperationCancelled) Kind() string { return "operation.cancelled" }
func (OperationEnded) Kind() string     { return "operation.ended" }
func (WorkspacePhase) Kind() string     { return "workspace.phase" }
func (ConditionBegun) Kind() string     { return "workspace.condition" }
func (ConditionOver) Kind() string      { return "workspace.condition" }
func (KeyAdded) Kind() string           { return "key.added" }
func (PushesAllowed) Kind() string      { return "workspace.pushes-allowed" }
func (PushesEnded) Kind() string        { return "workspace.pushes-ended" }
func (WorkspaceHeld) Kind() string      { return "workspace.held" }
func (HoldEnded) Kind() string          { return "workspace.hold-ended" }
func (WorkspaceRested) Kind() string    { return "workspace.rested" }
func (WorkspaceExpired) Kind() string   { return "workspace.expired" }
func (WorkspaceDiscarded) Kind() string { return "workspace.discarded" }
func (RebuildFailed) Kind() string      { return "workspace.rebuild-failed" }
func (PortShared) Kind() string         { return "workspace.port" }
func (s SessionOpened) Kind() string    { return "workspace." + s.What }
func (Renewed) Kind() string            { return "workspace.renewed" }
func (Entered) Kind() string            { return "workspace.entered" }
func (LookLinkMade) Kind() string       { return "workspace.look-link-made" }
func (LookLinkEnded) Kind() string      { return "workspace.look-link-ended" }
func (RecordingBegun) Kind() string     { return "workspace.recording-begun" }
func (RecordingEnded) Kind() string     { return "workspace.recording-ended" }
func (RecordingSeen) Kind() string      { return "workspace.recording-seen" }
func (RecordingRemoved) Kind() string   { return "workspace.recording-removed" }
func (AttentionQuiet) Kind() string     { return "attention.quiet" }
func (AttentionAgain) Kind() string     { return "attention.again" }
func (LookAllowed) Kind() string        { return "workspace.look-allowed" }
func (FirstLineSet) Kind() string       { return "workspace.first-line" }
func (LookEnded) Kind() string          { return "workspace.look-ended" }
