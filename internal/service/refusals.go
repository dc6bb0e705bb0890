package service

import (
	"context"
	"log/slog"
	"slices"
	"sync"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/store"
)

// refusals are sign-ins that failed and are not told yet.
type refusals struct {
	mu    sync.Mutex
	since journal.SignInsRefused
}

const (
	// refusalsTold is how often failed sign-ins are told, all at once.
	refusalsTold = time.Minute
	// refusalsNamed bounds how many names and addresses are told.
	refusalsNamed = 8
)

// noteRefusal notes one; the first has all be told in a minute. person is whose name was given, ""
// where it was nobody's: such a name is not told, as people type their passwords there.
func (s *SignIns) noteRefusal(person, from string, tooMany bool) {
	s.refusals.mu.Lock()
	defer s.refusals.mu.Unlock()
	r := &s.refusals.since
	if r.Count == 0 {
		s.keeper.At("refused sign-ins", s.now().Add(refusalsTold), s.tellRefusals)
	}
	r.Count++
	if tooMany {
		r.TooMany++
	}
	add := func(to *[]string, what string) {
		if what != "" && len(*to) < refusalsNamed && !slices.Contains(*to, what) {
			*to = append(*to, what)
		}
	}
	add(&r.From, from)
	add(&r.People, person)
}

func (s *SignIns) tellRefusals(ctx context.Context) error {
	s.refusals.mu.Lock()
	told := s.refusals.since
	s.refusals.since = journal.SignInsRefused{}
	s.refusals.mu.Unlock()
	if told.Count == 0 {
		return nil
	}
	if told.From == nil {
		told.From = []string{}
	}
	if told.People == nil {
		told.People = []string{}
	}
	slog.Info("sign-ins were refused", "count", told.Count, "not_even_tried", told.TooMany, "people", told.People, "from", told.From)
	return s.store.Write(ctx, func(tx *store.Tx) error { return tx.Journal(ctx, "", "", "service", told) })
}
