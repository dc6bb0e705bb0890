package service

import (
	"context"
	"slices"

	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/house"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Announced is what the house tells everybody, signed in or not; nil for nothing.
func (s *Health) Announced(ctx context.Context) *wire.Announcement {
	r, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil || r.Announcement.Text == "" {
		return nil // what cannot be read is told where it is asked for
	}
	out := &wire.Announcement{Text: r.Announcement.Text, Pauses: string(r.Announcement.Pauses)}
	if at := r.AnnouncedUntil(); !at.IsZero() {
		at = at.UTC()
		out.Until = &at
	}
	return out
}

// paused refuses what an announcement pauses, but to operators. what is the question to
// what is paused.
func paused(ctx context.Context, book *house.Book, q store.Q, a Actor, what func(rules.Pause) bool) error {
	r, _, err := book.Rules(ctx, q)
	if err != nil || !what(r.Announcement.Pauses) || a.may(policy.ChangeRules) {
		return err
	}
	doing := map[rules.Pause]string{rules.PauseLaunches: "launched or prepared", rules.PauseStarts: "launched, prepared, started or rebuilt", rules.PauseChanges: "changed"}[r.Announcement.Pauses]
	next := "use what runs; an operator says when it goes on"
	if at := r.AnnouncedUntil(); !at.IsZero() {
		next = "use what runs; it goes on by itself after " + book.Local(ctx, q, book.At(), at)
	}
	return away("paused", "nothing is "+doing+" now: "+r.Announcement.Text, next)
}

// goesOn is what an announcement pauses nobody in: working in what runs, and putting it
// to rest.
var goesOn = []policy.Action{policy.UseWorkspace, policy.EnterWorkspace, policy.VisitPort, policy.StopWorkspace}

// Changes refuses what would change something while an announcement pauses that.
func (s *HouseRules) Changes(ctx context.Context, a Actor, action policy.Action) error {
	if slices.Contains(goesOn, action) {
		return nil
	}
	return paused(ctx, s.house, s.store.Read(), a, rules.Pause.Changes)
}
