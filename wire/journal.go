package wire

import "time"

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

// Gone is an event: a workspace stands in no list any more.
type Gone struct {
	Workspace string `json:"workspace" doc:"The id of the workspace"`
}

// Pulse is an event without news: the stream is alive. It comes first, and
// every 20 seconds.
type Pulse struct {
	Journal int64 `json:"journal" doc:"The number of the newest journal entry told"`
}

// SignedHead is the newest entry of a journal at a time, signed.
type SignedHead struct {
	Installation string    `json:"installation"`
	Number       int64     `json:"number"`
	Hash         string    `json:"hash" doc:"SHA-256, hexadecimal"`
	At           time.Time `json:"at"`
	Signature    string    `json:"signature" doc:"Ed25519, base64; docs/journal.md says over what"`
	Key          string    `json:"key,omitempty" doc:"Which key: 16 hexadecimal digits of the SHA-256 of its bytes"`
}

// JournalHead is a head with the key to hold it against.
type JournalHead struct {
	Head SignedHead `json:"head"`
	Line string     `json:"line" doc:"The same on one line, as webhooks carry it"`
	Key  string     `json:"key" doc:"The public key, in PEM"`
}

// JournalHeads are heads to hold a journal against.
type JournalHeads struct {
	Heads []string `json:"heads,omitempty" maxItems:"1000" doc:"As they were given out, each one line or JSON"`
	Keys  []string `json:"keys,omitempty" maxItems:"20" doc:"Earlier keys of this journal that you kept, in PEM: heads that were signed with one of them count too"`
}

// JournalVerdict is what a look through the whole journal found.
type JournalVerdict struct {
	Sound    bool     `json:"sound"`
	Entries  int64    `json:"entries"`
	Heads    int      `json:"heads" doc:"How many heads it was held against"`
	Problems []string `json:"problems"`
}
