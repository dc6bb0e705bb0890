package wire

import "time"

// KeepValue is what is to be kept.
type KeepValue struct {
	Value any `json:"value" doc:"Any JSON, up to 16 KiB of it"`
}

// Kept is something that somebody likes: how the console is for them, say. It is
// theirs alone, holds no secrets, and is no part of the journal.
type Kept struct {
	Name  string    `json:"name" example:"fleet-views"`
	Value any       `json:"value" doc:"Any JSON"`
	At    time.Time `json:"at" doc:"When it was put"`
}
