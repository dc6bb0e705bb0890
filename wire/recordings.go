package wire

import "time"

// Recording is what a terminal printed, and when: a file in the format asciicast,
// version 2. What is typed is in it where the terminal shows it.
type Recording struct {
	ID        string     `json:"id"`
	Workspace string     `json:"workspace"`
	Owner     string     `json:"owner"`
	Terminal  string     `json:"terminal"`
	Asked     bool       `json:"asked" doc:"Its owner asked for it; else the house rules have it"`
	BeganAt   time.Time  `json:"began_at"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	Why       string     `json:"why,omitempty" doc:"Why it ended"`
	Bytes     int64      `json:"bytes" doc:"The length of its file"`
}

// NewRecording has a terminal that is open recorded from now on.
type NewRecording struct {
	Workspace string `json:"workspace" minLength:"1" maxLength:"100"`
	Terminal  string `json:"terminal,omitempty" maxLength:"32" doc:"Its label; default main"`
}
