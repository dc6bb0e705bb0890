package keeper

import (
	"container/heap"
	"context"
	"sync"
	"time"
)

// alarms is the one queue of everything that is due by the clock. An alarm has
// a name; set again, it moves. The zero value works.
type alarms struct {
	mu     sync.Mutex
	queue  alarmQueue
	byName map[string]*alarm
	news   chan struct{}
}

type alarm struct {
	name  string
	at    time.Time
	due   func()
	index int
}

// set has due called at a time, in a goroutine of its own.
func (a *alarms) set(name string, at time.Time, due func()) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.init()
	if old := a.byName[name]; old != nil {
		old.at, old.due = at, due
		heap.Fix(&a.queue, old.index)
	} else {
		n := &alarm{name: name, at: at, due: due}
		a.byName[name] = n
		heap.Push(&a.queue, n)
	}
	select {
	case a.news <- struct{}{}:
	default:
	}
}

// drop forgets an alarm.
func (a *alarms) drop(name string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if old := a.byName[name]; old != nil {
		heap.Remove(&a.queue, old.index)
		delete(a.byName, name)
	}
}

func (a *alarms) init() {
	if a.byName == nil {
		a.byName, a.news = map[string]*alarm{}, make(chan struct{}, 1)
	}
}

// run calls what is due until ctx ends.
func (a *alarms) run(ctx context.Context, now func() time.Time) {
	a.mu.Lock()
	a.init()
	a.mu.Unlock()
	for {
		a.mu.Lock()
		wait := time.Hour
		for len(a.queue) > 0 {
			if wait = a.queue[0].at.Sub(now()); wait > 0 {
				break
			}
			first := heap.Pop(&a.queue).(*alarm)
			delete(a.byName, first.name)
			go first.due()
			wait = time.Hour
		}
		a.mu.Unlock()
		timer := time.NewTimer(min(wait, time.Minute)) // the clock may be set meanwhile
		select {
		case <-ctx.Done():
			timer.Stop()
			return
		case <-a.news:
		case <-timer.C:
		}
		timer.Stop()
	}
}

// alarmQueue is a heap by time.
type alarmQueue []*alarm

func (q alarmQueue) Len() int           { return len(q) }
func (q alarmQueue) Less(i, j int) bool { return q[i].at.Before(q[j].at) }
func (q alarmQueue) Swap(i, j int) {
	q[i], q[j] = q[j], q[i]
	q[i].index, q[j].index = i, j
}
func (q *alarmQueue) Push(x any) {
	a := x.(*alarm)
	a.index = len(*q)
	*q = append(*q, a)
}
func (q *alarmQueue) Pop() any {
	old := *q
	a := old[len(old)-1]
	*q = old[:len(old)-1]
	return a
}

// At has due called at a time, in place of what the name stood for before.
func (k *Keeper) At(name string, at time.Time, due func()) { k.alarms.set(name, at, due) }

// Forget drops what was to be called under a name.
func (k *Keeper) Forget(name string) { k.alarms.drop(name) }
