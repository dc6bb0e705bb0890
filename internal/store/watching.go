package store

import (
	"time"

	"yardbench/internal/core/lifecycle"
)

// Took is how long something took that was written down: a step of a kind, or with
// Launch the whole of a launch.
type Took struct {
	Step   string // image, network, clone, set-up/onCreateCommand, …, a few in all; "" with Launch
	Launch bool
	Cached bool // the image was there; of a launch, it began with a prepared image
	Time   time.Duration
}

// Said is what is counted of a journal entry: its kind, and where a workspace has come
// into a phase that.
type Said struct {
	Kind  string
	Phase lifecycle.Phase
}

// Watching is told of what the writer does, after each commit. It must not block, and
// must be set before the first write. All may be nil.
type Watching struct {
	Committed func(took time.Duration, requests int)
	Took      func(Took)
	Entry     func(Said)
}

// Watch sets who is told.
func (s *Store) Watch(w Watching) { s.watching = w }

// Waiting is how many requests wait for the writer, of how many that may.
func (s *Store) Waiting() (n, most int) { return len(s.queue), queueLength }

// tell tells of a group that was committed.
func (s *Store) tell(committed time.Duration, requests int, took []Took, said []Said) {
	if s.watching.Committed != nil {
		s.watching.Committed(committed, requests)
	}
	for _, t := range took {
		if s.watching.Took != nil {
			s.watching.Took(t)
		}
	}
	for _, e := range said {
		if s.watching.Entry != nil {
			s.watching.Entry(e)
		}
	}
}
