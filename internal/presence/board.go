// Package presence knows how things stand in the workspaces that run, by what
// their stewards say. That is a stranger's word: it is brought within bounds
// here, and here alone. Nothing of it is stored; after a restart the stewards
// tell it anew. The package touches nothing.
package presence

import (
	"maps"
	"slices"
	"sync"
	"time"

	"yardbench/internal/core/idle"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/steward"
)

// Status is what is known of one workspace.
type Status struct {
	Signs   idle.Signs
	Ports   []steward.Port
	Holders []Holder
	Disk    int64  // bytes of its folder; 0 while unknown
	Full    string // where there is no room left, as told last

	// Of what is in the records already, and nothing is new since:
	Filled  bool // where it is full
	Checked bool // which secrets are held
	Weighed bool // the disk, that it is not too large
	Idle    bool // the condition stands

	Warned time.Time // of which rest its terminals were warned
	told   map[lifecycle.ConditionKind]*allowance
}

// Holder is a process with the secrets it was given.
type Holder struct {
	Label   string
	Since   time.Time
	Secrets map[string]int // version by name
}

func (h Holder) same(other Holder) bool {
	return h.Label == other.Label && maps.Equal(h.Secrets, other.Secrets) && h.Since.Sub(other.Since).Abs() < 2*time.Second
}

// Board holds the status of every workspace that runs. The zero value works.
type Board struct {
	mu sync.Mutex
	of map[string]*Status
}

// With calls do with a workspace's status, which do may change. Everybody else
// waits: do must not call the board.
func (b *Board) With(id string, do func(*Status)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.of == nil {
		b.of = map[string]*Status{}
	}
	if b.of[id] == nil {
		b.of[id] = &Status{}
	}
	do(b.of[id])
}

// Drop forgets a workspace: it does not run any more.
func (b *Board) Drop(id string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.of, id)
}

// Workspaces lists those of whom something is known.
func (b *Board) Workspaces() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Sorted(maps.Keys(b.of))
}

// Changes tells what of a steward's word is new.
type Changes struct {
	Work    bool // a sign of work, where the workspace was idle
	Shows   bool // something that people see
	Holders bool // who holds which secrets is to be checked
	Disk    bool // the disk is to be checked
	Full    bool // where it is full is to be noted
}

// Take takes a steward's word.
func (b *Board) Take(id string, said steward.Status, now time.Time) (c Changes) {
	b.With(id, func(s *Status) {
		before := *s
		first, _ := s.Signs.Last()
		s.Signs.Typed, s.Signs.Read, s.Signs.Busy = ago(now, said.TypedMS, s.Signs.Typed), ago(now, said.ReadMS, s.Signs.Read), ago(now, said.BusyMS, s.Signs.Busy)
		last, _ := s.Signs.Last()
		c.Work = s.Idle && last.After(first)
		s.Ports, s.Holders, s.Disk, s.Full = ports(said.Ports), holders(said.Holders, now), max(0, said.DiskBytes), full(said)
		c.Shows = !slices.Equal(before.Ports, s.Ports) || before.Disk>>20 != s.Disk>>20
		s.Checked = s.Checked && slices.EqualFunc(before.Holders, s.Holders, Holder.same)
		s.Weighed = s.Weighed && before.Disk == s.Disk
		s.Filled = s.Filled && before.Full == s.Full
		c.Holders, c.Disk, c.Full = !s.Checked, !s.Weighed, !s.Filled
	})
	return c
}

// full says where a workspace has no room left.
func full(said steward.Status) string {
	switch {
	case said.RootFull:
		return "there is no room left outside its folder, where its container's own files are: the yard's disk is full; an operator can make room there"
	case said.FolderFull:
		return "there is no room left in its folder: what is written there fails; remove what is not needed"
	}
	return ""
}
