// Package due does what is due by the clock: one queue in the order of time,
// in which each thing has a name. It touches nothing but what it is given to
// do.
package due

import (
	"container/heap"
	"context"
	"log/slog"
	"sync"
	"time"
)

const (
	// most bounds what is done at once, as a whole house may be due in the same
	// minute.
	most = 32
	// again is how long after a failure the same is done once more; twice as
	// long each time, up to againMost.
	again     = time.Second
	againMost = 5 * time.Minute
	// look is how often the clock is read at least: it may be set.
	look = time.Minute
)

// Queue is the queue. The zero value works.
type Queue struct {
	mu      sync.Mutex
	queue   byTime
	byName  map[string]*item
	news    chan struct{}
	room    chan struct{}
	running sync.WaitGroup
}

type item struct {
	name   string
	at     time.Time
	do     func(ctx context.Context) error
	failed int // times in a row
	index  int // in the heap; -1 while it is done
}

// Set has do called at a time, once, in place of what the name stood for
// before. Where do fails it is called again after a while, until it does not,
// or the name is set anew or dropped.
func (q *Queue) Set(name string, at time.Time, do func(ctx context.Context) error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.init()
	q.drop(name)
	n := &item{name: name, at: at, do: do}
	q.byName[name] = n
	heap.Push(&q.queue, n)
	q.tell()
}

// Drop forgets what a name stands for. What is being done goes on.
func (q *Queue) Drop(name string) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.drop(name)
}

func (q *Queue) drop(name string) {
	if old := q.byName[name]; old != nil {
		if old.index >= 0 {
			heap.Remove(&q.queue, old.index)
		}
		delete(q.byName, name)
	}
}

func (q *Queue) init() {
	if q.byName == nil {
		q.byName, q.news, q.room = map[string]*item{}, make(chan struct{}, 1), make(chan struct{}, most)
	}
}

func (q *Queue) tell() {
	select {
	case q.news <- struct{}{}:
	default:
	}
}

// Run does what is due, by the clock now, until ctx ends and what had begun
// has ended.
func (q *Queue) Run(ctx context.Context, now func() time.Time) {
	q.mu.Lock()
	q.init()
	q.mu.Unlock()
	defer q.running.Wait()
	for {
		first, wait := q.next(now())
		if first != nil {
			select {
			case <-ctx.Done():
				return
			case q.room <- struct{}{}: // bounded: what is done ends
			}
			q.running.Go(func() {
				defer func() { <-q.room }()
				q.one(ctx, first)
			})
			continue
		}
		timer := time.NewTimer(min(wait, look))
		select {
		case <-ctx.Done():
			timer.Stop()
			return
		case <-q.news:
		case <-timer.C:
		}
		timer.Stop()
	}
}

// next takes the first thing that is due, or tells how long there is nothing.
func (q *Queue) next(now time.Time) (first *item, wait time.Duration) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if len(q.queue) == 0 {
		return nil, look
	}
	if wait = q.queue[0].at.Sub(now); wait > 0 {
		return nil, wait
	}
	return heap.Pop(&q.queue).(*item), 0
}

func (q *Queue) one(ctx context.Context, it *item) {
	err := it.do(ctx)
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.byName[it.name] != it {
		return // set anew meanwhile, or dropped
	}
	if err == nil || ctx.Err() != nil {
		delete(q.byName, it.name)
		return
	}
	wait := min(again<<min(it.failed, 10), againMost)
	it.failed++
	slog.Error("what was due could not be done; it is tried again", "what", it.name, "in", wait, "error", err)
	time.AfterFunc(wait, func() { // whatever the clock is set to
		q.mu.Lock()
		defer q.mu.Unlock()
		if q.byName[it.name] == it && ctx.Err() == nil {
			it.at = time.Time{}
			heap.Push(&q.queue, it)
			q.tell()
		}
	})
}

// byTime is a heap.
type byTime []*item

func (h byTime) Len() int           { return len(h) }
func (h byTime) Less(i, j int) bool { return h[i].at.Before(h[j].at) }
func (h byTime) Swap(i, j int) {
	h[i], h[j] = h[j], h[i]
	h[i].index, h[j].index = i, j
}
func (h *byTime) Push(x any) {
	it := x.(*item)
	it.index = len(*h)
	*h = append(*h, it)
}
func (h *byTime) Pop() any {
	old := *h
	it := old[len(old)-1]
	*h, it.index = old[:len(old)-1], -1
	return it
}
