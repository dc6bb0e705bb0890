package presence

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/steward"
)

var now = time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)

// A steward's word, however large and whatever is in it, is brought within
// bounds before anybody else sees it.
func TestHostileWord(t *testing.T) {
	var b Board
	said := steward.Status{TypedMS: -5, ReadMS: 1 << 60, BusyMS: 1000, DiskBytes: -1}
	many := map[string]int{}
	for i := range 100_000 {
		said.Ports = append(said.Ports, steward.Port{Number: i - 10, Process: strings.Repeat("\x1b[2J", 1000)})
		many[fmt.Sprint("KEY", i)] = 1
	}
	for range 5000 {
		said.Holders = append(said.Holders, steward.Holder{Label: strings.Repeat("x\n", 1000), SinceMS: -1, Secrets: many})
	}
	said.Holders[0] = steward.Holder{Label: "terminal", SinceMS: 60_000, Secrets: map[string]int{"KEY": 3, "no name; rm -rf": 1, strings.Repeat("K", 500): 2}}
	said.Holders[1].Label = "run /usr/bin/deploy --token=hunter2 --to quay"
	b.Take("w", said, now)
	b.With("w", func(s *Status) {
		if len(s.Ports) != maxPorts-11 || s.Ports[0].Number != 1 || len([]rune(s.Ports[0].Process)) > maxProcess || strings.Contains(s.Ports[0].Process, "\x1b") {
			t.Errorf("%d ports, the first %+v", len(s.Ports), s.Ports[0])
		}
		if len(s.Holders) != maxHolders || s.Holders[0].Secrets["KEY"] != 3 || len(s.Holders[0].Secrets) != 1 || len(s.Holders[2].Secrets) != 0 || len([]rune(s.Holders[2].Label)) != maxLabel {
			t.Errorf("%d holders: %+v, %+v", len(s.Holders), s.Holders[0], s.Holders[2])
		}
		if s.Holders[1].Label != "run deploy" || s.Holders[0].Since != now.Add(-time.Minute) {
			t.Errorf("a run is %q, since %s", s.Holders[1].Label, s.Holders[0].Since)
		}
		if last, _ := s.Signs.Last(); !last.Equal(now.Add(-time.Second)) || s.Disk != 0 {
			t.Errorf("the last sign is of %s, the disk %d", last, s.Disk)
		}
	})
	w := Work(steward.WorkReport{Uncommitted: make([]string, 1000), Unpushed: []string{strings.Repeat("y", 1<<20)}, Stashes: -3, Problem: strings.Repeat("\x00", 1<<20)})
	if len(w.Uncommitted) != maxWork || len(w.Unpushed[0]) > 2*maxWorkLine || w.Stashes != 0 || len([]rune(w.Problem)) != maxWorkProblem {
		t.Errorf("work is %d, %d, %d, %d", len(w.Uncommitted), len(w.Unpushed[0]), w.Stashes, len(w.Problem))
	}
}

// What is new is told, each thing for itself, and once it is in the records no
// more.
func TestChanges(t *testing.T) {
	var b Board
	word := steward.Status{TypedMS: -1, ReadMS: -1, BusyMS: -1, DiskBytes: 5 << 20, Holders: []steward.Holder{{Label: "terminal", SinceMS: 1000, Secrets: map[string]int{"KEY": 1}}}}
	if c := b.Take("w", word, now); c != (Changes{Shows: true, Holders: true, Disk: true, Full: true}) {
		t.Errorf("the first word: %+v", c)
	}
	b.With("w", func(s *Status) { s.Checked, s.Weighed, s.Filled, s.Idle = true, true, true, true })
	later := word
	later.Holders = []steward.Holder{{Label: "terminal", SinceMS: 11_000, Secrets: map[string]int{"KEY": 1}}}
	if c := b.Take("w", later, now.Add(10*time.Second)); c != (Changes{}) {
		t.Errorf("the same again: %+v", c)
	}
	later.TypedMS, later.RootFull, later.DiskBytes = 0, true, 6<<20
	if c := b.Take("w", later, now.Add(10*time.Second)); c != (Changes{Work: true, Shows: true, Disk: true, Full: true}) {
		t.Errorf("somebody typed, and the disk is full: %+v", c)
	}
}

// A condition that flips is written often at first, and then seldom; each
// workspace and kind has an allowance of its own.
func TestConditionsAreNotWrittenWithoutEnd(t *testing.T) {
	var b Board
	written := 0
	for at := now; at.Before(now.Add(24 * time.Hour)); at = at.Add(time.Second) {
		if next, ok := b.MayTell("w", lifecycle.DiskFull, at); ok {
			written++
		} else if !next.After(at) || next.Sub(at) > tellEach {
			t.Fatalf("at %s the next is at %s", at, next)
		}
	}
	if most := tellAtOnce + int(24*time.Hour/tellEach); written > most || written < most-2 {
		t.Errorf("in a day it was written %d times", written)
	}
	for range tellAtOnce {
		if _, ok := b.MayTell("w", lifecycle.SecretsChanged, now); !ok {
			t.Error("another kind has none")
		}
		if _, ok := b.MayTell("other", lifecycle.DiskFull, now); !ok {
			t.Error("another workspace has none")
		}
	}
}
