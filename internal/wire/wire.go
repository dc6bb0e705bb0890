// Package wire holds what both ends of the HTTP door say to each other: plain
// values with their JSON names. It touches nothing.
//
// Times are UTC in RFC 3339; names ending in _ms are milliseconds.
package wire

import (
	"net/http"
	"strconv"
	"time"
)

// Problem is an answer that something was not done (RFC 9457), with what to
// do next as an extension.
type Problem struct {
	Type   string         `json:"type,omitempty" doc:"Which kind of problem: a URI of the form urn:yardbench:problem:KIND"`
	Title  string         `json:"title"`
	Status int            `json:"status"`
	Detail string         `json:"detail,omitempty" doc:"What happened, naming the thing"`
	Next   string         `json:"next,omitempty" doc:"What to do about it"`
	Errors []FieldProblem `json:"errors,omitempty"`
	// RetryAfterS is what stands in the header Retry-After; 0 is none.
	RetryAfterS int `json:"-"`
}

// GetHeaders are the header fields of the answer that a problem is.
func (p *Problem) GetHeaders() http.Header {
	h := http.Header{}
	if p.RetryAfterS > 0 {
		h.Set("Retry-After", strconv.Itoa(p.RetryAfterS))
	}
	return h
}

// FieldProblem is what is wrong with one field of a request.
type FieldProblem struct {
	Field  string `json:"field"`
	Detail string `json:"detail"`
}

func (p *Problem) Error() string {
	s := p.Detail
	if s == "" {
		s = p.Title
	}
	for _, e := range p.Errors {
		s += "; " + e.Field + ": " + e.Detail
	}
	if p.Next != "" {
		s += "\n" + p.Next
	}
	return s
}

// GetStatus is the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// Person is somebody, as others may see them.
type Person struct {
	Name     string `json:"name" example:"ingrid"`
	FullName string `json:"full_name" example:"Ingrid Solheim"`
	Email    string `json:"email" example:"ingrid@skerryline.example"`
	Role     string `json:"role" enum:"operator,lead,developer,auditor"`
	Team     string `json:"team,omitempty" example:"Timetable"`
	Closed   bool   `json:"closed" doc:"They may not sign in any more"`
}

// Me is who is signed in, and where.
type Me struct {
	Person
	Organisation string `json:"organisation,omitempty" example:"Skerry Line"`
}

// SignIn asks for a sign-in.
type SignIn struct {
	Name     string `json:"name" maxLength:"64" example:"ingrid"`
	Password string `json:"password" maxLength:"512"`
}

// SignedIn is what a sign-in gives. The token is shown this once.
type SignedIn struct {
	Person    Person    `json:"person"`
	Token     string    `json:"token,omitempty" doc:"For the Authorization header, as a bearer token; the console gets a cookie instead"`
	ExpiresAt time.Time `json:"expires_at"`
}

// Repository is a registered repository.
type Repository struct {
	Name          string `json:"name" example:"tide-board"`
	URL           string `json:"url" example:"https://git.skerryline.example/tide-board.git"`
	DefaultBranch string `json:"default_branch" example:"main"`
	SignsPushes   bool   `json:"signs_pushes" doc:"Its git host has a key to sign the news of pushes with"`
	Team          string `json:"team,omitempty" doc:"Whose money its prebuilds are"`
}

// NewRepository asks for a repository to be registered.
type NewRepository struct {
	URL  string `json:"url" maxLength:"2048" example:"https://git.skerryline.example/tide-board.git"`
	Name string `json:"name,omitempty" maxLength:"40" doc:"Default: the last part of the address"`
	Team string `json:"team,omitempty" maxLength:"40" doc:"Whose money its prebuilds are; default: no team's"`
}

// RepositoryChange changes what is there.
type RepositoryChange struct {
	Team *string `json:"team,omitempty" maxLength:"40" doc:"Empty for no team's"`
}

// Launch asks for a workspace.
type Launch struct {
	Repository string `json:"repository" maxLength:"64" example:"tide-board"`
	Branch     string `json:"branch,omitempty" maxLength:"256" doc:"Default: the repository's default branch"`
	Name       string `json:"name,omitempty" maxLength:"40" doc:"Default: the repository's name, with a number where that is taken"`
	Size       string `json:"size,omitempty" maxLength:"20" doc:"Default: the house rules' usual size"`
	RestAfterS int64  `json:"rest_after_s,omitempty" minimum:"0" doc:"Seconds without a sign of work until it is put to rest; default: the house rules' usual time"`
	// Definition and Beside are of the repository's content.
	Definition string   `json:"definition,omitempty" maxLength:"128" doc:"The folder of the definition under .devcontainer; default: the first one"`
	Beside     []string `json:"beside,omitempty" maxItems:"8" example:"[\"fare-desk@main\"]" doc:"Further repositories to clone beside it, as NAME or NAME@BRANCH"`
}

// Container is one in the yard that others started and nobody has taken on.
type Container struct {
	ID          string    `json:"id"`
	Name        string    `json:"name" example:"quay-clock"`
	Image       string    `json:"image"`
	StartedAt   time.Time `json:"started_at"`
	CoresMilli  int64     `json:"cores_milli" doc:"Its own bound; 0 is none"`
	MemoryBytes int64     `json:"memory_bytes" doc:"Its own bound; 0 is none"`
	Size        string    `json:"size,omitempty" doc:"The smallest size of the house rules that its own bounds fit in"`
}

// Containers are those that could be taken on, and what they may count for.
type Containers struct {
	Containers []Container `json:"containers"`
	Currency   string      `json:"currency" example:"EUR"`
	Sizes      []SizeOffer `json:"sizes"`
}

// Adopt asks for a container to be taken on as somebody's workspace.
type Adopt struct {
	Owner      string `json:"owner" maxLength:"64" example:"ingrid" doc:"Whose workspace it becomes"`
	Repository string `json:"repository" maxLength:"64" example:"tide-board" doc:"What it is counted under"`
	Name       string `json:"name,omitempty" maxLength:"40" doc:"Default: the container's"`
	Size       string `json:"size,omitempty" maxLength:"20" doc:"What it counts for; default: the smallest that its own bounds fit in"`
	User       string `json:"user,omitempty" maxLength:"64" doc:"Who the terminals are; default: the container's own user"`
	Folder     string `json:"folder,omitempty" maxLength:"512" doc:"Where they begin; default: the container's own folder"`
}

// Rebuild asks for a new body of a workspace.
type Rebuild struct {
	NewFiles bool `json:"new_files,omitempty" doc:"Drop the files too and clone anew"`
	Discard  bool `json:"discard,omitempty" doc:"With new_files: even when work exists nowhere else"`
}

// Condition stands beside a phase.
type Condition struct {
	Kind   string    `json:"kind" example:"set-up failed"`
	Reason string    `json:"reason"`
	Since  time.Time `json:"since"`
}

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
	Currency      string     `json:"currency" example:"EUR"`
	HourMicros    int64      `json:"hour_micros" doc:"What an hour of it costs, in millionths of the currency's unit"`
	CostMicros    int64      `json:"cost_micros" doc:"What it cost so far"`
	IdleMicros    int64      `json:"idle_micros" doc:"Of that, for hours in which nobody worked in it"`
	Day           []Stretch  `json:"day" doc:"The last 24 hours, oldest first; what is left out is at rest"`
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

// Sheet is a launch sheet.
type Sheet struct {
	Number    int        `json:"number"`
	Kind      string     `json:"kind" enum:"launch,start,rebuild,stop,remove,prebuild,adopt,let go"`
	StartedAt time.Time  `json:"started_at"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	Outcome   string     `json:"outcome,omitempty" enum:",done,failed,skipped,interrupted"`
	Cause     string     `json:"cause,omitempty"`
	Steps     []Step     `json:"steps"`
	Hint      string     `json:"hint,omitempty" doc:"Where time could be saved"`
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
	Outcome   string     `json:"outcome,omitempty" enum:",done,failed,skipped,interrupted"`
	Cause     string     `json:"cause,omitempty"`
}

// Work is what in a workspace exists nowhere else.
type Work struct {
	Uncommitted []string `json:"uncommitted"`
	Unpushed    []string `json:"unpushed"`
	Stashes     int      `json:"stashes"`
	Problem     string   `json:"problem,omitempty" doc:"Why it cannot be looked at"`
}

// Secret is what is known of a secret; values are never given out.
type Secret struct {
	Name         string    `json:"name"`
	Level        string    `json:"level" enum:"person,repository"`
	Repository   string    `json:"repository,omitempty" doc:"Whose it is, for a repository's"`
	Form         string    `json:"form" enum:"variable,file"`
	Everywhere   bool      `json:"everywhere" doc:"A person's: given to all their workspaces"`
	Repositories []string  `json:"repositories" doc:"A person's: else given to workspaces of these"`
	Version      int       `json:"version"`
	UpdatedAt    time.Time `json:"updated_at"`
}

// SecretValue sets a secret. Whom a person's secret is given to must be said
// when it is new; left out later, it stays.
type SecretValue struct {
	Value        string   `json:"value"`
	Form         string   `json:"form,omitempty" enum:"variable,file" doc:"A variable NAME, or a file with its path in NAME_FILE; default: variable, or as it was"`
	Everywhere   bool     `json:"everywhere,omitempty"`
	Repositories []string `json:"repositories,omitempty" maxItems:"200"`
}

// SecretChoice is a secret and what becomes of it in a repository's workspaces.
type SecretChoice struct {
	Name    string `json:"name"`
	Level   string `json:"level" enum:"person,repository,none"`
	Form    string `json:"form,omitempty"`
	Version int    `json:"version,omitempty"`
	Given   bool   `json:"given"`
	Wanted  bool   `json:"wanted" doc:"The definition asks for it"`
	Why     string `json:"why"`
}

// KnownCredential is what one signs in to a git host with, but for the secret.
type KnownCredential struct {
	Host      string    `json:"host"`
	Username  string    `json:"username"`
	UpdatedAt time.Time `json:"updated_at"`
}

// GitCredential sets what one signs in to a git host with.
type GitCredential struct {
	Username string `json:"username" minLength:"1" maxLength:"256"`
	Password string `json:"password" minLength:"1" maxLength:"4096"`
}

// Run starts a command or a terminal in a workspace. It is the first message,
// as text, on the WebSocket; after it binary messages go both ways, each a
// byte of kind and its content: to the workspace i (input), c (input ends),
// r (JSON with columns and rows); from it o (output), e (standard error), x
// (JSON with code and problem; the last).
type Run struct {
	Argv     []string `json:"argv,omitempty" doc:"The command; without one a terminal is opened, or joined"`
	Terminal string   `json:"terminal,omitempty" doc:"The terminal's label; default main"`
	Columns  int      `json:"columns,omitempty"`
	Rows     int      `json:"rows,omitempty"`
	// Acknowledges tells that whoever asks says what they have taken in: a frame
	// of kind a with the number of bytes of output in decimal. Beyond half a
	// megabyte that nobody has taken in, the output waits.
	Acknowledges bool `json:"acknowledges,omitempty"`
}

// JournalEntry is one line of the journal.
type JournalEntry struct {
	Number  int64          `json:"number"`
	At      time.Time      `json:"at"`
	Kind    string         `json:"kind" example:"workspace.phase"`
	Subject string         `json:"subject"`
	Actor   string         `json:"actor"`
	Data    map[string]any `json:"data"`

	SubjectName string `json:"subject_name,omitempty" doc:"What it happened to, where it has a name"`
	ActorName   string `json:"actor_name,omitempty" doc:"Who did it"`
	OwnerName   string `json:"owner_name,omitempty" doc:"Whose matter it is"`
}

// Change is an event: something of a workspace changed; look again.
type Change struct {
	Workspace string `json:"workspace" doc:"The id of the workspace"`
}

// Pulse is an event without news: the stream is alive. It comes first, and
// every 20 seconds.
type Pulse struct {
	Journal int64 `json:"journal" doc:"The number of the newest journal entry told"`
}

// Health says whether the service is well.
type Health struct {
	Simulated bool   `json:"simulated,omitempty" doc:"The yard is simulated: nothing really runs in it"`
	Status    string `json:"status" enum:"ok,troubled"`
	// Troubles are what keeps it from being well.
	Troubles []Trouble `json:"troubles,omitempty"`
}

// Trouble keeps the service from being well.
type Trouble struct {
	Kind  string    `json:"kind" enum:"yard away,disk full"`
	Text  string    `json:"text"`
	Since time.Time `json:"since"`
}

// ContentType is the media type problems travel under (RFC 9457, 3).
func (p *Problem) ContentType(string) string { return "application/problem+json" }

// Team is a group of people whose money and limits belong together.
type Team struct {
	Name string `json:"name" minLength:"1" maxLength:"40" example:"Harbour"`
}

// PersonChange changes a person; what is left out stays.
type PersonChange struct {
	Role   string  `json:"role,omitempty" enum:"operator,lead,developer,auditor"`
	Team   *string `json:"team,omitempty" doc:"Empty for none"`
	Closed *bool   `json:"closed,omitempty" doc:"They may not sign in any more; what they are signed in with ends"`
}

// NewEnrolment asks for a link by which somebody sets up their account.
type NewEnrolment struct {
	Role   string `json:"role,omitempty" enum:"operator,lead,developer,auditor" doc:"Default: developer"`
	Team   string `json:"team,omitempty"`
	Person string `json:"person,omitempty" doc:"For somebody who has an account: the link sets a new password"`
	Hours  int    `json:"hours,omitempty" minimum:"0" maximum:"720" doc:"How long the link can be used; default 72"`
}

// Enrolment is a link that was made. The link is shown this once.
type Enrolment struct {
	Link      string    `json:"link"`
	Role      string    `json:"role"`
	Team      string    `json:"team,omitempty"`
	Person    string    `json:"person,omitempty"`
	ExpiresAt time.Time `json:"expires_at"`
}

// EnrolmentKey is what a link holds.
type EnrolmentKey struct {
	Key string `json:"key" maxLength:"200"`
}

// EnrolmentOffer is what a link is for.
type EnrolmentOffer struct {
	Role      string    `json:"role"`
	Team      string    `json:"team,omitempty"`
	Person    string    `json:"person,omitempty" doc:"Set: a new password for them"`
	ExpiresAt time.Time `json:"expires_at"`
}

// EnrolmentUse sets up the account, or the new password.
type EnrolmentUse struct {
	Key      string `json:"key" maxLength:"200"`
	Name     string `json:"name,omitempty" maxLength:"64"`
	FullName string `json:"full_name,omitempty" maxLength:"120"`
	Email    string `json:"email,omitempty" maxLength:"200"`
	Password string `json:"password" maxLength:"512"`
}

// Token is a sign-in, or a token with a name.
type Token struct {
	ID         string     `json:"id"`
	Door       string     `json:"door" enum:"console,cli,token"`
	Name       string     `json:"name,omitempty"`
	CreatedAt  time.Time  `json:"created_at"`
	ExpiresAt  time.Time  `json:"expires_at"`
	LastUsedAt *time.Time `json:"last_used_at,omitempty"`
	Current    bool       `json:"current" doc:"The one that this was asked with"`
}

// NewToken asks for a token.
type NewToken struct {
	Name string `json:"name" minLength:"1" maxLength:"60" example:"nightly report"`
	Days int    `json:"days,omitempty" minimum:"0" maximum:"366" doc:"Default 30"`
}

// MadeToken is a token that was made; its value is shown this once.
type MadeToken struct {
	Token
	Value string `json:"value"`
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
}

// SizeOffer is a size that may be chosen.
type SizeOffer struct {
	Name        string `json:"name"`
	CoresMilli  int64  `json:"cores_milli"`
	MemoryBytes int64  `json:"memory_bytes"`
	DiskBytes   int64  `json:"disk_bytes"`
	HourMicros  int64  `json:"hour_micros"`
}

// WantedSecret is a secret that a definition asks for.
type WantedSecret struct {
	Name        string `json:"name"`
	Description string `json:"description,omitempty"`
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
}

// Hold keeps a workspace from being put to rest.
type Hold struct {
	Seconds int64  `json:"seconds" minimum:"60"`
	Why     string `json:"why" minLength:"1" maxLength:"300"`
}

// Port is a port of a workspace.
type Port struct {
	Number    int    `json:"number"`
	Label     string `json:"label,omitempty"`
	Process   string `json:"process,omitempty"`
	Service   string `json:"service,omitempty" doc:"The service behind it, where that is not the workspace itself"`
	Declared  bool   `json:"declared" doc:"The definition forwards it"`
	Listening bool   `json:"listening"`
	Loopback  bool   `json:"loopback" doc:"It listens on loopback only, and is reached all the same"`
	Shared    bool   `json:"shared" doc:"Everybody signed in may visit it; else only its owner"`
	Address   string `json:"address"`
}

// PortChange says who may visit a port.
type PortChange struct {
	Shared bool `json:"shared"`
}

// PortVisit asks for the way to a port's address.
type PortVisit struct {
	Address string `json:"address" maxLength:"4096"`
}

// PortPass leads to a port's address, once, within a minute.
type PortPass struct {
	Go string `json:"go"`
}

// Rules is the house rules document, one version of it.
type Rules struct {
	Version  int       `json:"version"`
	Document string    `json:"document"`
	Author   string    `json:"author"`
	Reason   string    `json:"reason"`
	At       time.Time `json:"at"`
	Changes  []string  `json:"changes" doc:"What it changed in the version before"`
}

// RulesText is a document to check or to put.
type RulesText struct {
	Document string `json:"document" maxLength:"262144"`
	Reason   string `json:"reason,omitempty" maxLength:"300" doc:"Why; needed to put it"`
	Base     int    `json:"base,omitempty" doc:"The version it was made from: refused when there is a newer one"`
}

// RulesCheck is what is to be said of a document.
type RulesCheck struct {
	Findings []RulesFinding `json:"findings"`
	Changes  []string       `json:"changes" doc:"What it would change"`
}

// RulesFinding is one thing that is wrong with a document.
type RulesFinding struct {
	Line   int    `json:"line"`
	Column int    `json:"column"`
	What   string `json:"what"`
	Fix    string `json:"fix,omitempty"`
}

// PrebuildPlan says that images of a branch are prepared ahead.
type PrebuildPlan struct {
	Repository string        `json:"repository"`
	Branch     string        `json:"branch"`
	OnPush     bool          `json:"on_push"`
	Timetable  string        `json:"timetable,omitempty"`
	Keep       int           `json:"keep"`
	MadeBy     string        `json:"made_by"`
	NextAt     *time.Time    `json:"next_at,omitempty" doc:"When it is due by its timetable"`
	Runs       []PrebuildRun `json:"runs" doc:"The newest, at most 20"`
}

// PutPlan makes or changes the plan of a branch.
type PutPlan struct {
	Branch    string `json:"branch,omitempty" maxLength:"256" doc:"Default: the repository's default branch"`
	OnPush    bool   `json:"on_push,omitempty"`
	Timetable string `json:"timetable,omitempty" maxLength:"100" doc:"Minute, hour, day of the month, month, day of the week, in the house's time zone" example:"30 5 * * 1-5"`
	Keep      int    `json:"keep,omitempty" minimum:"0" maximum:"20" doc:"How many good prepared images are kept; default 2"`
}

// Branch names a branch.
type Branch struct {
	Branch string `json:"branch,omitempty" maxLength:"256" doc:"Default: the repository's default branch"`
}

// PrebuildRun is one making of a prepared image.
type PrebuildRun struct {
	ID        string     `json:"id"`
	Number    int        `json:"number"`
	Reason    string     `json:"reason"`
	Commit    string     `json:"commit"`
	Outcome   string     `json:"outcome,omitempty" enum:",done,failed"`
	Cause     string     `json:"cause,omitempty"`
	StartedAt time.Time  `json:"started_at"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	Serves    bool       `json:"serves" doc:"Its image is kept, and may serve a launch"`
}

// Push is the news of a push, from a git host. See docs/pushes.md for how it
// is signed.
type Push struct {
	Repository string `json:"repository" maxLength:"2048" doc:"The address it is registered under"`
	Branch     string `json:"branch" maxLength:"256"`
	Commit     string `json:"commit" maxLength:"64"`
}

// Pushed tells what came of the news of a push.
type Pushed struct {
	Runs int `json:"runs" doc:"How many plans it set going"`
}

// PushKey is what a git host signs with. It is shown this once.
type PushKey struct {
	Key string `json:"key"`
}

// Cost is what was used, and what it cost.
type Cost struct {
	Currency string    `json:"currency"`
	From     time.Time `json:"from"`
	To       time.Time `json:"to"`
	By       string    `json:"by" enum:"person,team,repository,workspace,day"`
	Rows     []CostRow `json:"rows"`
	Total    CostRow   `json:"total"`
}

// CostRow is one line of it. Money is in millionths of the currency's unit.
type CostRow struct {
	Key            string  `json:"key"`
	ActiveS        int64   `json:"active_s" doc:"Seconds that were run and worked in"`
	IdleS          int64   `json:"idle_s" doc:"Seconds that were run and not worked in"`
	PrebuildS      int64   `json:"prebuild_s"`
	StoredGiBHours float64 `json:"stored_gib_hours"`
	ActiveMicros   int64   `json:"active_micros"`
	IdleMicros     int64   `json:"idle_micros"`
	StorageMicros  int64   `json:"storage_micros"`
	PrebuildMicros int64   `json:"prebuild_micros"`
	TotalMicros    int64   `json:"total_micros"`
}
