// Package live tells those who watch that something changed. It carries no
// content: who is told looks for themselves, so that a slow watcher misses
// nothing but repetitions. It touches nothing.
package live

import "sync"

// Bus passes on that topics changed. The zero Bus works.
type Bus struct {
	mu   sync.Mutex
	subs map[*Watch]bool
}

// Watch is one watcher's view of a Bus.
type Watch struct {
	// C has a value when Take has something to give.
	C     chan struct{}
	bus   *Bus
	mu    sync.Mutex
	dirty map[string]bool
}

// Watch begins to watch every topic. Close ends it.
func (b *Bus) Watch() *Watch {
	w := &Watch{C: make(chan struct{}, 1), bus: b, dirty: map[string]bool{}}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.subs == nil {
		b.subs = map[*Watch]bool{}
	}
	b.subs[w] = true
	return w
}

// Close ends the watching.
func (w *Watch) Close() {
	w.bus.mu.Lock()
	defer w.bus.mu.Unlock()
	delete(w.bus.subs, w)
}

// Publish tells every watcher that a topic changed. It never waits.
func (b *Bus) Publish(topic string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for w := range b.subs {
		w.mu.Lock()
		w.dirty[topic] = true
		w.mu.Unlock()
		select {
		case w.C <- struct{}{}:
		default:
		}
	}
}

// News is C, for whoever only waits, and forgets what changed.
func (w *Watch) News() <-chan struct{} {
	w.Take()
	return w.C
}

// Take gives the topics that changed since the last Take.
func (w *Watch) Take() map[string]bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.dirty
	w.dirty = map[string]bool{}
	return d
}
