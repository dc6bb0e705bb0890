package presence

import (
	"regexp"
	"strings"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/plain"
	"yardbench/internal/steward"
)

// Every bound on what a steward says.
const (
	maxPorts       = 200
	maxProcess     = 40 // characters
	maxHolders     = 100
	maxLabel       = 64  // characters
	maxHeld        = 200 // secrets of one holder; nobody is given more
	maxAgo         = 1e11 * time.Millisecond
	maxWork        = 100 // lines of each kind
	maxWorkLine    = 200 // characters
	maxWorkProblem = 300
	maxStashes     = 1_000_000

	// A condition that follows from a steward's word is written at once, and
	// so may ten more be; after that one each three minutes. The journal keeps
	// them for good.
	tellAtOnce = 10
	tellEach   = 3 * time.Minute
)

// ago is a time that was told as milliseconds ago; old where it cannot be, or
// is older.
func ago(now time.Time, ms int64, old time.Time) time.Time {
	if ms < 0 || ms > int64(maxAgo/time.Millisecond) {
		return old
	}
	if t := now.Add(-time.Duration(ms) * time.Millisecond); t.After(old) {
		return t
	}
	return old
}

func ports(said []steward.Port) (out []steward.Port) {
	for _, p := range said[:min(len(said), maxPorts)] {
		if p.Number > 0 && p.Number < 65536 {
			p.Process = plain.Line(p.Process, maxProcess)
			out = append(out, p)
		}
	}
	return out
}

var secretName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]{0,127}$`)

func holders(said []steward.Holder, now time.Time) (out []Holder) {
	for _, h := range said[:min(len(said), maxHolders)] {
		one := Holder{Label: label(h.Label), Since: ago(now, h.SinceMS, time.Time{}), Secrets: map[string]int{}}
		if len(h.Secrets) <= maxHeld {
			for name, version := range h.Secrets {
				if secretName.MatchString(name) {
					one.Secrets[name] = version
				}
			}
		}
		out = append(out, one)
	}
	return out
}

// label names a process. Of a command line only the program is kept: what
// follows may be anything, a password too, and labels reach the journal.
func label(said string) string {
	if rest, ok := strings.CutPrefix(said, "run "); ok {
		program, _, _ := strings.Cut(rest, " ")
		said = "run " + program[strings.LastIndexByte(program, '/')+1:]
	}
	return plain.Line(said, maxLabel)
}

// Work brings a steward's word on what exists nowhere else within bounds.
func Work(said steward.WorkReport) steward.WorkReport {
	lines := func(said []string) (out []string) {
		for _, s := range said[:min(len(said), maxWork)] {
			out = append(out, plain.Line(s, maxWorkLine))
		}
		return out
	}
	return steward.WorkReport{Uncommitted: lines(said.Uncommitted), Unpushed: lines(said.Unpushed), Stashes: min(max(said.Stashes, 0), maxStashes),
		Problem: plain.Line(said.Problem, maxWorkProblem)}
}

// allowance is how many changes of a condition may still be written.
type allowance struct {
	left time.Duration // tellEach is one change
	at   time.Time
}

// MayTell takes one change of a condition from a workspace's allowance; where
// there is none left, it gives when there is.
func (b *Board) MayTell(id string, kind lifecycle.ConditionKind, now time.Time) (next time.Time, ok bool) {
	b.With(id, func(s *Status) {
		if s.told == nil {
			s.told = map[lifecycle.ConditionKind]*allowance{}
		}
		a := s.told[kind]
		if a == nil {
			a = &allowance{left: tellAtOnce * tellEach, at: now}
			s.told[kind] = a
		}
		if since := now.Sub(a.at); since > 0 {
			a.left = min(a.left+since, tellAtOnce*tellEach)
		}
		a.at = now
		if ok = a.left >= tellEach; ok {
			a.left -= tellEach
			return
		}
		next = now.Add(tellEach - a.left)
	})
	return next, ok
}
