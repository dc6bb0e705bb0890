// Package wire holds what both ends of the HTTP door say to each other: plain
// values with their JSON names. It touches nothing.
//
// Times are UTC in RFC 3339; names ending in _ms are milliseconds.
package wire

import "time"

// Problem is an answer that something was not done (RFC 9457), with what to
// do next as an extension.
type Problem struct {
	Type   string         `json:"type,omitempty" doc:"Which kind of problem: a URI of the form urn:yardbench:problem:KIND"`
	Title  string         `json:"title"`
	Status int            `json:"status"`
	Detail string         `json:"detail,omitempty" doc:"What happened, naming the thing"`
	Next   string         `json:"next,omitempty" doc:"What to do about it"`
	Errors []FieldProblem `json:"errors,omitempty"`
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
	Role     string `json:"role" enum:"operator,lead,developer,auditor"`
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
}

// NewRepository asks for a repository to be registered.
type NewRepository struct {
	URL  string `json:"url" maxLength:"2048" example:"https://git.skerryline.example/tide-board.git"`
	Name string `json:"name,omitempty" maxLength:"40" doc:"Default: the last part of the address"`
}

// Launch asks for a workspace.
type Launch struct {
	Repository string `json:"repository" maxLength:"64" example:"tide-board"`
	Branch     string `json:"branch,omitempty" maxLength:"256" doc:"Default: the repository's default branch"`
	Name       string `json:"name,omitempty" maxLength:"40" doc:"Default: the repository's name, with a number where that is taken"`
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
	Sheet      int         `json:"sheet" doc:"The number of the newest launch sheet"`
}

// Sheet is a launch sheet.
type Sheet struct {
	Number    int        `json:"number"`
	Kind      string     `json:"kind" enum:"launch,start,rebuild,stop,remove"`
	StartedAt time.Time  `json:"started_at"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	Outcome   string     `json:"outcome,omitempty" enum:",done,failed,skipped,interrupted"`
	Cause     string     `json:"cause,omitempty"`
	Steps     []Step     `json:"steps"`
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

// Secret is a secret's name; values are never given out.
type Secret struct {
	Name      string    `json:"name"`
	Version   int       `json:"version"`
	UpdatedAt time.Time `json:"updated_at"`
}

// SecretValue sets a secret.
type SecretValue struct {
	Value string `json:"value"`
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
}

// JournalEntry is one line of the journal.
type JournalEntry struct {
	Number  int64          `json:"number"`
	At      time.Time      `json:"at"`
	Kind    string         `json:"kind" example:"workspace.phase"`
	Subject string         `json:"subject"`
	Actor   string         `json:"actor"`
	Data    map[string]any `json:"data"`
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
	Status string `json:"status" enum:"ok"`
}

// ContentType is the media type problems travel under (RFC 9457, 3).
func (p *Problem) ContentType(string) string { return "application/problem+json" }
