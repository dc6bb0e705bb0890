package wire

import "time"

// Workspace is a workspace as it is now.
type Workspace struct {
	ID         string      `json:"id"`
	Name       string      `json:"name" example:"tide-board"`
	Owner      string      `json:"owner" example:"ingrid"`
	Repository string      `json:"repository" example:"tide-board"`
	Branch     string      `json:"branch" example:"main"`
	Commit     string      `json:"commit"`
	Definition string      `json:"definition" doc:"Where the definition stands in the repository"`
	Image      string      `json:"image" doc:"The definition's image, or the build file it is built from"`
	Folder     string      `json:"folder"`
	User       string      `json:"user"`
	Ports      []int       `json:"ports"`
	Phase      string      `json:"phase" enum:"waiting,preparing,starting,ready,stopping,stopped,removing,removed,failed"`
	FailedIn   string      `json:"failed_in,omitempty"`
	Cause      string      `json:"cause,omitempty" doc:"Why it failed or stopped"`
	Wanted     string      `json:"wanted" enum:"ready,stopped,removed"`
	Conditions []Condition `json:"conditions"`
	CreatedAt  time.Time   `json:"created_at"`
	PhaseAt    time.Time   `json:"phase_at" doc:"Since when it is in this phase"`
	Rebuilding bool        `json:"rebuilding"`
	Services   int         `json:"services" doc:"How many services are beside it"`
	Adopted    string      `json:"adopted,omitempty" doc:"The name of its container, where others started that"`
	Sheet      int         `json:"sheet" doc:"The number of the newest launch sheet"`

	Team          string     `json:"team,omitempty"`
	Size          string     `json:"size"`
	CoresMilli    int64      `json:"cores_milli" doc:"Thousandths of a core it may use"`
	MemoryBytes   int64      `json:"memory_bytes"`
	DiskBytes     int64      `json:"disk_bytes"`
	DiskUsedBytes int64      `json:"disk_used_bytes" doc:"Of its folder; 0 while unknown"`
	Prepared      *Prepared  `json:"prepared,omitempty" doc:"The prepared image it is made from"`
	Scratch       string     `json:"scratch,omitempty" doc:"Why no prepared image served"`
	Rest          *Rest      `json:"rest,omitempty" doc:"While it is ready: when it is put to rest, and what keeps it awake"`
	RemovesAt     *time.Time `json:"removes_at,omitempty" doc:"While it is stopped: when it is removed, unless work in it exists nowhere else"`
	Asks          []Ask      `json:"asks" doc:"The secrets that programs in it wait for, the oldest first"`
	Currency      string     `json:"currency" example:"EUR"`
	HourMicros    int64      `json:"hour_micros" doc:"What an hour of it costs, in millionths of the currency's unit"`
	CostMicros    int64      `json:"cost_micros" doc:"What it cost so far"`
	IdleMicros    int64      `json:"idle_micros" doc:"Of that, for hours in which nobody worked in it"`
	Day           []Stretch  `json:"day" doc:"The last 24 hours, oldest first; what is left out is at rest"`
}

// Ask is a secret that a program in a workspace waits for.
type Ask struct {
	Name   string    `json:"name" example:"TIDE_API_KEY"`
	Says   string    `json:"says,omitempty" doc:"What it is for, in the program's own words"`
	Absent string    `json:"absent" doc:"Why it is not given"`
	Since  time.Time `json:"since"`
}

// WorkspaceRow is a workspace in a list: what it is, how it is, what it costs.
type WorkspaceRow struct {
	ID         string      `json:"id"`
	Name       string      `json:"name" example:"tide-board"`
	Owner      string      `json:"owner" example:"ingrid"`
	Team       string      `json:"team,omitempty"`
	Repository string      `json:"repository" example:"tide-board"`
	Branch     string      `json:"branch" example:"main"`
	Phase      string      `json:"phase" enum:"waiting,preparing,starting,ready,stopping,stopped,removing,removed,failed"`
	FailedIn   string      `json:"failed_in,omitempty"`
	Cause      string      `json:"cause,omitempty" doc:"Why it failed or stopped"`
	Conditions []Condition `json:"conditions"`
	PhaseAt    time.Time   `json:"phase_at" doc:"Since when it is in this phase"`
	Size       string      `json:"size"`
	Adopted    string      `json:"adopted,omitempty" doc:"The name of its container, where others started that"`
	Currency   string      `json:"currency" example:"EUR"`
	HourMicros int64       `json:"hour_micros" doc:"What an hour of it costs, in millionths of the currency's unit"`
	CostMicros int64       `json:"cost_micros" doc:"What it cost so far"`
	Day        string      `json:"day" doc:"The last 24 hours in 48 letters, the oldest half hour first: a where it was worked in, i where it ran idle, a full stop at rest"`
}

// Condition stands beside a phase.
type Condition struct {
	Kind   string    `json:"kind" example:"set-up failed"`
	Reason string    `json:"reason"`
	Since  time.Time `json:"since"`
}

// Prepared is the prepared image that a workspace is made from.
type Prepared struct {
	Number int       `json:"number"`
	MadeAt time.Time `json:"made_at"`
	Behind int       `json:"behind" doc:"Commits from it to the branch's head, brought in at the launch"`
}

// Rest is how a workspace stands between work and rest.
type Rest struct {
	LastSignAt time.Time  `json:"last_sign_at" doc:"The newest sign of work"`
	LastSign   string     `json:"last_sign" example:"something was typed"`
	Idle       bool       `json:"idle"`
	Warn       bool       `json:"warn" doc:"It is about to be put to rest"`
	StopsAt    time.Time  `json:"stops_at" doc:"When it is put to rest, without another sign"`
	HeldUntil  *time.Time `json:"held_until,omitempty"`
	HoldWhy    string     `json:"hold_why,omitempty"`
}

// Stretch is a part of a day.
type Stretch struct {
	From  time.Time `json:"from"`
	To    time.Time `json:"to"`
	State string    `json:"state" enum:"active,idle"`
}

// Rebuild asks for a new body of a workspace.
type Rebuild struct {
	NewFiles bool `json:"new_files,omitempty" doc:"Drop the files too and clone anew"`
	Discard  bool `json:"discard,omitempty" doc:"With new_files: even when work exists nowhere else"`
}

// SheetRow is a launch sheet in a list.
type SheetRow struct {
	Number    int        `json:"number"`
	Kind      string     `json:"kind" enum:"launch,start,rebuild,stop,remove,prebuild,adopt,let go"`
	StartedAt time.Time  `json:"started_at"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	Outcome   string     `json:"outcome,omitempty" enum:"done,failed,skipped,interrupted" doc:"Not there while it is under way"`
	Cause     string     `json:"cause,omitempty"`
}

// Sheet is a launch sheet.
type Sheet struct {
	SheetRow
	Steps []Step `json:"steps"`
	Hint  string `json:"hint,omitempty" doc:"Where time could be saved"`
	Waits string `json:"waits,omitempty" doc:"While it is under way: why nothing happens for now"`
}

// Step is one line of a launch sheet.
type Step struct {
	Number    int        `json:"number"`
	Parent    int        `json:"parent,omitempty" doc:"The step it is a part of"`
	Title     string     `json:"title"`
	Attempt   int        `json:"attempt"`
	StartedAt time.Time  `json:"started_at"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	Cached    bool       `json:"cached"`
	Bytes     int64      `json:"bytes,omitempty" doc:"What it brought in: an image that was fetched or built, a clone"`
	UsualMS   int64      `json:"usual_ms,omitempty" doc:"Half of the last 50 such steps of this repository took no longer"`
	SlowMS    int64      `json:"slow_ms,omitempty" doc:"19 of 20 took no longer"`
	Outcome   string     `json:"outcome,omitempty" enum:"done,failed,skipped,interrupted" doc:"Not there while it is under way"`
	Cause     string     `json:"cause,omitempty"`
}

// Work is what in a workspace exists nowhere else.
type Work struct {
	Uncommitted []string `json:"uncommitted"`
	Unpushed    []string `json:"unpushed"`
	Stashes     int      `json:"stashes"`
	Problem     string   `json:"problem,omitempty" doc:"Why it cannot be looked at"`
}

// Hold keeps a workspace from being put to rest.
type Hold struct {
	Seconds int64  `json:"seconds" minimum:"60"`
	Why     string `json:"why" minLength:"1" maxLength:"300"`
}
