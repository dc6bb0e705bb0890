package service

import (
	"fmt"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"yardbench/internal/fault"
)

// Pace holds each person to what a person can mean: how often they change
// something, each of which is written down for good, and how much of theirs goes
// on at once.
type Pace struct {
	perHour int // 0 is no bound
	now     func() time.Time
	mu      sync.Mutex
	people  map[string]*pace
}

type pace struct {
	changes *rate.Limiter
	atOnce  int
}

// maxAtOnce bounds the requests of one person that go on at once: answers, event
// streams, terminals, tunnels.
const maxAtOnce = 256

// Begin begins a request of somebody's; change tells that it may leave something
// in the records. end is called when it is over.
func (p *Pace) Begin(person string, change bool) (end func(), err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	of := p.people[person]
	if of == nil {
		if p.people == nil {
			p.people = map[string]*pace{}
		}
		// A tenth of an hour's may come at once.
		of = &pace{changes: rate.NewLimiter(rate.Limit(float64(p.perHour)/3600), max(1, p.perHour/10))}
		p.people[person] = of // as many as there are people
	}
	if of.atOnce >= maxAtOnce {
		return nil, tooFast(fmt.Sprintf("%d things of yours go on at once", maxAtOnce), "end some: terminals, forwards, pages of the console", 5*time.Second)
	}
	if change && p.perHour > 0 {
		now := p.now()
		r := of.changes.ReserveN(now, 1)
		if after := r.DelayFrom(now); after > 0 {
			r.CancelAt(now)
			return nil, tooFast("you change more than one person may in an hour", "wait a little; an operator sets how much that is with: yardbench serve --changes-per-hour", max(time.Second, after.Round(time.Second)))
		}
	}
	of.atOnce++
	return func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		of.atOnce--
	}, nil
}

func tooFast(what, next string, after time.Duration) error {
	return &fault.Fault{Class: fault.TooMany, Kind: "too-fast", Detail: what, Next: next, After: after}
}
