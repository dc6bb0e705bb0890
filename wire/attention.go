package wire

import "time"

// Attention is a cause for which something needs somebody: what has the same is
// told once.
type Attention struct {
	ID     string    `json:"id" doc:"The same as long as the cause is"`
	Rank   int       `json:"rank" doc:"What holds up most people for longest is 1"`
	Of     string    `json:"of" enum:"workspace,service,webhook,prebuild" doc:"What has it"`
	Kind   string    `json:"kind" doc:"Failed, a condition of workspaces, or what is wrong with something else"`
	Step   string    `json:"step,omitempty" doc:"The step of the launch sheet that failed"`
	Cause  string    `json:"cause" doc:"With names taken out, and what is another each time"`
	Since  time.Time `json:"since" doc:"Of the oldest"`
	Newest time.Time `json:"newest"`
	Count  int       `json:"count"`
	People int       `json:"people" doc:"Who wait, each once"`
	Verbs  []string  `json:"verbs" doc:"What may be asked of all that have it, as an operation"`
	Quiet  *Quiet    `json:"quiet,omitempty"`
}

// Quiet says that a cause needs nobody for a time.
type Quiet struct {
	Reason string    `json:"reason"`
	By     string    `json:"by"`
	Until  time.Time `json:"until"`
}

// NewQuiet asks for that.
type NewQuiet struct {
	Reason  string `json:"reason" minLength:"1" maxLength:"200" example:"moving day"`
	Seconds int64  `json:"seconds" minimum:"60" maximum:"2592000"`
}

// AttentionCause is a cause with everything that has it.
type AttentionCause struct {
	Attention
	Cases  []AttentionCase `json:"cases" doc:"The oldest first"`
	Lines  []string        `json:"lines" doc:"What the logs of the failing step have in common"`
	Before []JournalEntry  `json:"before" doc:"What was changed in the hour before the first, the newest first; for whom the journal is"`
}

// AttentionCase is one that has it.
type AttentionCase struct {
	Name  string    `json:"name" doc:"NAME.OWNER of a workspace, or what the other is called"`
	Cause string    `json:"cause" doc:"As it is written"`
	Since time.Time `json:"since"`
}
