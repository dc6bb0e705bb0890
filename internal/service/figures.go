package service

import (
	"context"
	"sync/atomic"
	"time"

	"yardbench/wire"
)

// Figures counts what stands in an installation, for those who look at it from outside.
// It names nobody.
type Figures struct {
	views   *views
	health  *Health
	refused *atomic.Int64
}

// Figure is what stands at one moment.
type Figure struct {
	Phases     map[string]int // people's workspaces by phase
	Conditions map[string]int // what stands beside their phases, by kind
	Troubles   []wire.Trouble // of the service itself
	// WebhooksFailing counts those that are not taken, and WebhookLag how many entries
	// the one that is furthest behind has not been told of.
	WebhooksFailing int
	WebhookLag      int64
	Entries         int64 // of the journal, from its beginning
	RefusedSignIns  int64 // by password, since the service began
	// SealingKeyMade is when the key that seals now was made; zero for the first.
	SealingKeyMade time.Time
}

// Now counts.
func (s *Figures) Now(ctx context.Context) (f Figure, err error) {
	rows, err := s.views.rows(ctx)
	if err != nil {
		return f, err
	}
	f = Figure{Phases: map[string]int{}, Conditions: map[string]int{}, Troubles: s.health.Health().Troubles, RefusedSignIns: s.refused.Load()}
	for _, r := range rows {
		f.Phases[string(r.w.Phase)]++
		for _, c := range r.conditions {
			f.Conditions[string(c.Kind)]++
		}
	}
	q := s.views.store.Read()
	if f.Entries, err = q.JournalHead(ctx); err != nil {
		return f, err
	}
	keys, err := notes(ctx, q)
	if err != nil {
		return f, err
	}
	for _, k := range keys {
		if k.MadeAt.After(f.SealingKeyMade) {
			f.SealingKeyMade = k.MadeAt
		}
	}
	hooks, err := q.Webhooks(ctx)
	for _, h := range hooks {
		if h.PausedAt != nil {
			continue
		}
		f.WebhookLag = max(f.WebhookLag, f.Entries-h.Cursor)
		if h.FailingSince != nil {
			f.WebhooksFailing++
		}
	}
	return f, err
}
