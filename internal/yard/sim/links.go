package sim

import (
	"context"
	"net"
	"strconv"
	"strings"
	"sync"

	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
)

// Links are the ways to the stewards of a simulated yard, as outside.Hub has
// those of real ones: without sockets, so that a hundred thousand need none.
type Links struct {
	// Changed is called, if set, when a steward has come or gone.
	Changed func(link string)

	yard   *ground
	mu     sync.Mutex
	opened map[string]bool
	wait   map[string]chan struct{} // closed when a steward comes
}

// Links gives the ways to the yard's stewards.
func (y *ground) Links() *Links { return y.links }

// moved is called when a steward has begun or ended.
func (l *Links) moved(link string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if c := l.wait[link]; c != nil {
		close(c)
		delete(l.wait, link)
	}
	if l.Changed != nil && l.opened[link] {
		go l.Changed(link)
	}
}

// Open lets a body's steward come. There is no folder to mount.
func (l *Links) Open(link, _ string) error {
	l.mu.Lock()
	was := l.opened[link]
	l.opened[link] = true
	l.mu.Unlock()
	if !was && l.Connected(link) {
		l.moved(link)
	}
	return nil
}

// Reach is Open: nobody dials here.
func (l *Links) Reach(link string, _ func(context.Context) (net.Conn, error)) {
	_ = l.Open(link, "") // it never fails
}

// Close ends the link to a body.
func (l *Links) Close(link string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.opened, link)
	return nil
}

// Connected tells whether a body's steward is there.
func (l *Links) Connected(link string) bool {
	l.yard.mu.Lock()
	there := l.yard.stewards[link] != nil
	l.yard.mu.Unlock()
	l.mu.Lock()
	defer l.mu.Unlock()
	return there && l.opened[link]
}

// Await waits until a body's steward is there.
func (l *Links) Await(ctx context.Context, link string) error {
	for {
		l.mu.Lock()
		came := l.wait[link]
		if came == nil {
			came = make(chan struct{})
			l.wait[link] = came
		}
		l.mu.Unlock()
		if l.Connected(link) {
			return nil
		}
		select {
		case <-came:
		case <-ctx.Done():
			return outside.ErrAway
		}
	}
}

// Ask opens a stream to a body's steward; see outside.Hub.Ask.
func (l *Links) Ask(ctx context.Context, link string, r steward.Request) (*steward.Conn, error) {
	id, number, _ := strings.Cut(link, "-b")
	n, err := strconv.Atoi(number)
	if err != nil || !l.Connected(link) {
		return nil, outside.ErrAway
	}
	c, ok := l.yard.Dial(id, n)
	if !ok {
		return nil, outside.ErrAway
	}
	defer context.AfterFunc(ctx, func() { c.Stream.Close() })()
	var reply steward.Reply
	if c.Send(r) != nil || c.Receive(&reply) != nil {
		c.Stream.Close()
		return nil, outside.ErrAway
	}
	if reply.Problem != "" {
		c.Stream.Close()
		return nil, outside.Refused(reply.Problem)
	}
	return c, nil
}
