package store

import (
	"slices"
	"sync"
)

// changes tells those who keep workspaces in memory which were written since
// they looked. Only we write to the records: a mutator says so by [Tx.touch],
// and the commit notes it before it is answered.
type changes struct {
	mu    sync.Mutex
	whole uint64   // how often something of all of them was written
	last  uint64   // the number of the newest change
	ids   []string // the newest changes, that of number last at the end
}

// mostChanges bounds what is remembered; who looks later than that takes all anew.
const mostChanges = 4096

// Mark is how far somebody has seen; the zero Mark has seen nothing.
type Mark struct{ whole, last uint64 }

func (c *changes) note(ids []string, whole bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if whole {
		c.whole++
	}
	c.last += uint64(len(ids))
	if c.ids = append(c.ids, ids...); len(c.ids) > 2*mostChanges {
		c.ids = slices.Clone(c.ids[len(c.ids)-mostChanges:])
	}
}

// Changed gives the workspaces that were written since a mark, each once; all
// is true where that cannot be said one by one. What is read after it is as new
// as now.
func (s *Store) Changed(since Mark) (now Mark, ids []string, all bool) {
	c := &s.changes
	c.mu.Lock()
	defer c.mu.Unlock()
	now = Mark{c.whole + 1, c.last}
	n := c.last - since.last
	if now.whole != since.whole || n > uint64(len(c.ids)) {
		return now, nil, true
	}
	ids = slices.Clone(c.ids[uint64(len(c.ids))-n:])
	slices.Sort(ids)
	return now, slices.Compact(ids), false
}
