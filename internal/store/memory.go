package store

import (
	"strings"
	"sync"
	"sync/atomic"
)

// memory keeps what is asked for with every launch and seldom changes, for the
// readers. Only we write to the records: a statement that changes one of its
// tables has everything forgotten, and the commit of it once more, before it
// is answered, as somebody may have read in between.
type memory struct {
	now  atomic.Pointer[sync.Map]
	size atomic.Int64
}

// inMemory are the tables of which something is kept.
var inMemory = []string{"rules", "repositories", "prebuild_plans", "prebuild_runs", "git_credentials"}

// mostRemembered bounds what is kept; beyond it everything is forgotten.
const mostRemembered = 20_000

func (m *memory) forget() {
	m.now.Store(&sync.Map{})
	m.size.Store(0)
}

// changesMemory tells whether a statement may change what is kept.
func changesMemory(query string) bool {
	if strings.HasPrefix(query, "SELECT") {
		return false
	}
	for _, t := range inMemory {
		if strings.Contains(query, t) {
			return true
		}
	}
	return false
}

// remembered reads something of the tables in memory, or knows it already. What
// it gives is shared, and not to be changed.
func remembered[T any](q Q, key string, read func() (T, error)) (T, error) {
	if q.memory == nil { // inside a transaction, which may have changed it
		return read()
	}
	now := q.memory.now.Load() // what is read is true for this one at least
	if v, ok := now.Load(key); ok {
		return v.(T), nil
	}
	v, err := read()
	if err == nil {
		if q.memory.size.Add(1) > mostRemembered {
			q.memory.forget()
		}
		now.Store(key, v)
	}
	return v, err
}
