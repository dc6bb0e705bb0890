package store

import (
	"sync"
	"sync/atomic"
)

// cache keeps what is asked for with every launch and seldom changes, for the
// readers. Only we write to the records: a mutator of what is kept says so by
// [Tx.cached], and the commit has everything forgotten before it is answered.
type cache struct {
	now  atomic.Pointer[sync.Map]
	size atomic.Int64
}

// mostCached bounds what is kept; beyond it everything is forgotten.
const mostCached = 20_000

func (c *cache) forget() {
	c.now.Store(&sync.Map{})
	c.size.Store(0)
}

// cached reads something, or knows it already. What it gives is shared, and not
// to be changed.
func cached[T any](q reader, key string, read func() (T, error)) (T, error) {
	if q.cache == nil { // inside a transaction, which may have changed it
		return read()
	}
	now := q.cache.now.Load() // what is read is true for this one at least
	if v, ok := now.Load(key); ok {
		return v.(T), nil
	}
	v, err := read()
	if err == nil {
		if q.cache.size.Add(1) > mostCached {
			q.cache.forget()
		}
		now.Store(key, v)
	}
	return v, err
}
