package wire

import "time"

// Launch asks for a workspace.
type Launch struct {
	Repository string `json:"repository" maxLength:"64" example:"tide-board"`
	Branch     string `json:"branch,omitempty" maxLength:"256" doc:"Default: the repository's default branch. A pull request is one too, by its ref: refs/pull/12/head; what is made from it gets no secrets, and its pushes wait"`
	Name       string `json:"name,omitempty" maxLength:"40" doc:"Default: the repository's name, with a number where that is taken"`
	Size       string `json:"size,omitempty" maxLength:"20" doc:"Default: the house rules' usual size"`
	RestAfterS int64  `json:"rest_after_s,omitempty" minimum:"0" doc:"Seconds without a sign of work until it is put to rest; default: the house rules' usual time"`
	// Errand has it be removed again, with whatever is in it.
	Errand *NewErrand `json:"errand,omitempty" doc:"It is for one command: it goes, with whatever is in it, when its lease is not renewed, and when its time is over"`
	// Definition and Beside are of the repository's content.
	Definition string   `json:"definition,omitempty" maxLength:"128" doc:"The folder of the definition under .devcontainer; default: the first one"`
	Beside     []string `json:"beside,omitempty" maxItems:"8" example:"[\"fare-desk@main\"]" doc:"Further repositories to clone beside it, as NAME or NAME@BRANCH"`
}

// NewErrand has a workspace go after one command.
type NewErrand struct {
	Seconds int64 `json:"seconds,omitempty" minimum:"60" maximum:"86400" doc:"How long it stays at most, renewed or not; default 3600"`
}

// Errand is how long a workspace stays that is for one command.
type Errand struct {
	LeaseS     int64     `json:"lease_s" doc:"How long the lease is, in seconds: renew it a few times within that"`
	LeaseUntil time.Time `json:"lease_until" doc:"When it goes, unless its lease is renewed before"`
	MostUntil  time.Time `json:"most_until" doc:"When it goes in any case"`
}

// Preflight is what is said before a launch.
type Preflight struct {
	Repository string              `json:"repository"`
	Branch     string              `json:"branch"`
	Commit     string              `json:"commit"`
	Definition string              `json:"definition" doc:"Where it stands; empty where there is none and a usual image is taken"`
	Names      []string            `json:"names" doc:"The definitions that may be chosen; an empty one is the first"`
	Needs      string              `json:"needs,omitempty" doc:"The least that the definition says it needs"`
	Services   []string            `json:"services" doc:"The services beside the workspace"`
	Beside     []string            `json:"beside" doc:"The further repositories, with their branches"`
	Image      string              `json:"image"`
	Folder     string              `json:"folder"`
	User       string              `json:"user,omitempty"`
	Ports      []int               `json:"ports"`
	SetUp      []string            `json:"set_up" doc:"The moments whose commands run"`
	Findings   []DefinitionFinding `json:"findings"`
	Size       string              `json:"size"`
	Sizes      []SizeOffer         `json:"sizes"`
	RestAfterS int64               `json:"rest_after_s"`
	RestMostS  int64               `json:"rest_most_s"`
	Prepared   *Prepared           `json:"prepared,omitempty"`
	Scratch    string              `json:"scratch,omitempty" doc:"Why no prepared image serves"`
	UsualMS    int64               `json:"usual_ms" doc:"Half of such launches were ready so soon; 0 where there were none"`
	SlowMS     int64               `json:"slow_ms" doc:"19 of 20 were ready so soon"`
	Currency   string              `json:"currency"`
	HourMicros int64               `json:"hour_micros"`
	Missing    []WantedSecret      `json:"missing" doc:"Secrets that the definition asks for and nobody gives"`
	Limits     []LimitLine         `json:"limits"`
	Refused    bool                `json:"refused" doc:"A limit would be exceeded"`
	Request    int                 `json:"request,omitempty" doc:"The number of the pull request that it would be of: it gets no secrets, and its pushes wait"`
}

// SizeOffer is a size that may be chosen.
type SizeOffer struct {
	Name        string `json:"name"`
	CoresMilli  int64  `json:"cores_milli"`
	MemoryBytes int64  `json:"memory_bytes"`
	DiskBytes   int64  `json:"disk_bytes"`
	HourMicros  int64  `json:"hour_micros"`
	Currency    string `json:"currency" example:"EUR"`
	Over        string `json:"over,omitempty" doc:"The limit that a launch of this size would exceed now"`
}

// LimitLine is one limit and how a request stands to it: counts, thousandths
// of a core, or bytes, by kind.
type LimitLine struct {
	Kind    string `json:"kind" enum:"existing,running,cores,memory"`
	Whose   string `json:"whose"`
	Used    int64  `json:"used"`
	Asked   int64  `json:"asked"`
	Allowed int64  `json:"allowed"`
	Over    bool   `json:"over"`
	Text    string `json:"text"`
	Line    int    `json:"line,omitempty" doc:"Of the house rules' document, where it is written"`
}
