package hunt

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"io"
	"math/rand/v2"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing/synctest"
	"time"

	"yardbench/internal/registry"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/yard"
	"yardbench/internal/yard/sim"
)

// A gate is where a goroutine of the service waits until the scheduler lets
// it go on: before and after each call of the yard, each commit, and each
// word with a steward.
type gate struct {
	what   string
	id     string // of what, a workspace mostly
	epoch  int    // how many gates had been passed when it came
	order  int    // among those of the same: in which they were let on before
	answer chan verdict
}

// verdict is what the scheduler decides at a gate.
type verdict int

const (
	goOn     verdict = iota
	lost             // it is not done, and not answered
	lostDone         // it is done, and not answered
	refused          // the yard will not
	full             // the disk is full
	torn             // the disk is full in the middle of it, or fails
	dead             // the service was killed
	gaveUp           // the caller waits no longer
)

func (v verdict) String() string {
	return [...]string{"", " lost", " lost after it was done", " refused", " disk full", " disk full in the middle", " dead", " given up"}[v]
}

var errDead = errors.New("the service was killed")

// world is everything a hunt is about.
type world struct {
	rng    *rand.Rand
	yard   *sim.Yard
	faults bool
	broken fault
	file   string // of the records

	mu     sync.Mutex
	offset time.Duration // of the clock from true time
	trace  hash.Hash
	lines  []string          // the trace's last ones
	names  map[string]string // of ids, by the order in which they came
	late   []func()          // calls that were given up, and that the yard may do all the same
	wrong  []string
}

func (w *world) now() time.Time {
	w.mu.Lock()
	defer w.mu.Unlock()
	return time.Now().Add(w.offset)
}

// note puts a line into the trace.
func (w *world) note(format string, args ...any) {
	line := fmt.Sprintf("%s %s", time.Now().UTC().Format("15:04:05.000"), fmt.Sprintf(format, args...))
	w.trace.Write([]byte(line + "\n"))
	if w.lines = append(w.lines, line); len(w.lines) > 2000 {
		w.lines = slices.Clone(w.lines[1000:])
	}
}

func (w *world) problem(format string, args ...any) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.wrong = append(w.wrong, fmt.Sprintf(format, args...))
}

// name is what an id is called in the trace: random, it would tell nothing.
func (w *world) name(id string) string {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.names[id] == "" {
		w.names[id] = "w" + strconv.Itoa(len(w.names)+1)
	}
	return w.names[id]
}

// life is one life of the service, from a start to its kill.
type life struct {
	*world
	mu        sync.Mutex
	over      bool
	waiting   []*gate
	epoch     int            // gates that were passed
	commits   int            // those of them that lead to a commit
	groups    int            // that the writer has taken
	inside    int            // statements until the disk is full in the middle of a group; 0 is never
	undone    bool           // what the writer was at when the service was killed is not written
	keeping   map[string]int // calls of the yard that change something, by workspace
	opened    map[string]bool
	connected map[string]chan struct{}
	changed   func(link string)
}

// pass waits at a gate.
func (l *life) pass(ctx context.Context, what, id string) verdict { return l.passIn(ctx, what, id, 0) }

func (l *life) passIn(ctx context.Context, what, id string, order int) verdict {
	g := &gate{what: what, id: id, order: order, answer: make(chan verdict, 1)}
	l.mu.Lock()
	if l.over {
		l.mu.Unlock()
		return dead
	}
	g.epoch = l.epoch
	l.waiting = append(l.waiting, g)
	l.mu.Unlock()
	select {
	case v := <-g.answer:
		return v
	case <-ctx.Done():
		l.mu.Lock()
		defer l.mu.Unlock()
		l.waiting = slices.DeleteFunc(l.waiting, func(o *gate) bool { return o == g })
		if l.over {
			return dead
		}
		return gaveUp
	}
}

// gates lists who waits, once all stand still, in an order of its own: in which
// they came to their gates is nobody's to decide, and not the same each time.
func (l *life) gates() []*gate {
	l.mu.Lock()
	out := slices.Clone(l.waiting)
	l.mu.Unlock()
	slices.SortStableFunc(out, func(a, b *gate) int {
		return cmp.Or(cmp.Compare(a.epoch, b.epoch), strings.Compare(a.what, b.what), strings.Compare(a.id, b.id), cmp.Compare(a.order, b.order))
	})
	for _, g := range out { // named in this order, too
		if g.id != "" {
			l.name(g.id)
		}
	}
	return out
}

// release lets one go on, and waits until all stand still again.
func (l *life) release(g *gate, v verdict) {
	l.mu.Lock()
	l.epoch++
	l.waiting = slices.DeleteFunc(l.waiting, func(o *gate) bool { return o == g })
	if v == torn {
		l.inside = 1 + l.rng.IntN(12)
	}
	l.mu.Unlock()
	of := ""
	if g.id != "" {
		of = " of " + l.name(g.id)
	}
	l.note("%s%s%s", g.what, of, v)
	g.answer <- v
	synctest.Wait()
}

// around stands around every write of the store.
func (l *life) around(ctx context.Context, commit func() error) error {
	about := store.Subject(ctx)
	switch l.pass(context.Background(), "commit", about) {
	case dead:
		return errDead
	case full:
		return fmt.Errorf("before anything was written: %w", store.ErrFull)
	}
	l.mu.Lock()
	l.commits++ // one at a time is let on
	order := l.commits
	l.mu.Unlock()
	var err error
	if !l.broken.instead("commit") {
		err = commit()
	}
	l.broken.afterwards(l, "commit", "")
	if l.passIn(context.Background(), "committed", about, order) == dead {
		return errDead
	}
	return err
}

// group holds the writer up now and then, so that more comes into the group.
func (l *life) group() {
	l.mu.Lock()
	l.groups++
	hold := l.groups%2 == 0
	l.mu.Unlock()
	if hold {
		l.pass(context.Background(), "group", "")
	}
}

// held tells whether the writer is held up.
func (l *life) held() bool {
	return slices.ContainsFunc(l.gates(), func(g *gate) bool { return g.what == "group" })
}

// statement has the disk full in the middle of a group where that was decided.
func (l *life) statement() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.over && l.undone {
		return errDead
	}
	if l.inside == 0 {
		return nil
	}
	if l.inside--; l.inside > 0 {
		return nil
	}
	return fmt.Errorf("in the middle of a group: %w", store.ErrFull)
}

// theYard is the simulated yard behind gates.
type theYard struct {
	*sim.Yard
	l *life
}

// call is one call of the yard; with a workspace it changes something of it.
func (y *theYard) call(ctx context.Context, what, id string, do func(context.Context) error) error {
	return y.callOf(ctx, what, id, "", do)
}

// callOf is call for one that only looks at a workspace.
func (y *theYard) callOf(ctx context.Context, what, id, looked string, do func(context.Context) error) error {
	if id != "" {
		y.l.mu.Lock()
		if y.l.keeping[id]++; y.l.keeping[id] > 1 {
			y.l.problem("two keepers are at work on one workspace: %s", what)
		}
		y.l.mu.Unlock()
		defer func() {
			y.l.mu.Lock()
			y.l.keeping[id]--
			y.l.mu.Unlock()
		}()
	}
	switch y.l.pass(ctx, what, cmp.Or(id, looked, store.Subject(ctx))) {
	case lost:
		return fmt.Errorf("%s: %w", what, yard.ErrAway)
	case lostDone:
		_ = do(context.WithoutCancel(ctx)) // nobody hears how it went
		return fmt.Errorf("%s: %w", what, yard.ErrAway)
	case refused:
		return yard.Refused("%s: no, thank you", what)
	case dead:
		return errDead
	case gaveUp:
		if id != "" {
			y.l.world.mu.Lock()
			y.l.late = append(y.l.late, func() { _ = do(context.Background()) })
			y.l.world.mu.Unlock()
		}
		return ctx.Err()
	}
	var err error
	if !y.l.broken.instead(what) {
		err = do(ctx)
	}
	y.l.broken.afterwards(y.l, what, id)
	switch y.l.pass(ctx, what+": answer", cmp.Or(id, looked, store.Subject(ctx))) {
	case dead:
		return errDead
	case gaveUp:
		return ctx.Err()
	}
	return err
}

func (y *theYard) Workspaces(ctx context.Context) (out []string, err error) {
	err = y.call(ctx, "list", "", func(ctx context.Context) (err error) { out, err = y.Yard.Workspaces(ctx); return err })
	return out, err
}

func (y *theYard) Observe(ctx context.Context, id string) (o yard.Observation, err error) {
	err = y.callOf(ctx, "observe", "", id, func(ctx context.Context) (err error) { o, err = y.Yard.Observe(ctx, id); return err })
	return o, err
}

func (y *theYard) UseImage(ctx context.Context, ref string, as registry.SignIns, log io.Writer) (img yard.Image, err error) {
	err = y.call(ctx, "use-image", "", func(ctx context.Context) (err error) { img, err = y.Yard.UseImage(ctx, ref, as, log); return err })
	return img, err
}

func (y *theYard) Build(ctx context.Context, b yard.Build, report func(yard.Progress)) (img yard.Image, err error) {
	err = y.call(ctx, "build", "", func(ctx context.Context) (err error) { img, err = y.Yard.Build(ctx, b, report); return err })
	return img, err
}

func (y *theYard) DropTag(ctx context.Context, tag string) error {
	return y.call(ctx, "drop-tag", "", func(ctx context.Context) error { return y.Yard.DropTag(ctx, tag) })
}

func (y *theYard) Rename(ctx context.Context, tag, name string) (img yard.Image, err error) {
	err = y.call(ctx, "rename", "", func(ctx context.Context) (err error) { img, err = y.Yard.Rename(ctx, tag, name); return err })
	return img, err
}

func (y *theYard) Make(ctx context.Context, what yard.Thing) error {
	name, id := "make-body", ""
	switch t := what.(type) {
	case yard.Network:
		name, id = "make-network", t.Workspace
	case yard.Volume:
		name, id = "make-volume", t.Workspace
	case yard.Body:
		id = t.Workspace
	}
	return y.call(ctx, name, id, func(ctx context.Context) error { return y.Yard.Make(ctx, what) })
}

func (y *theYard) Start(ctx context.Context, id string, n int) error {
	return y.call(ctx, "start-body", id, func(ctx context.Context) error { return y.Yard.Start(ctx, id, n) })
}

func (y *theYard) Stop(ctx context.Context, id string, n int, grace time.Duration) error {
	return y.call(ctx, "stop-body", id, func(ctx context.Context) error { return y.Yard.Stop(ctx, id, n, grace) })
}

func (y *theYard) Remove(ctx context.Context, p yard.Part) error {
	return y.call(ctx, "remove-"+strings.ReplaceAll(string(p.Kind), " ", "-"), p.Workspace, func(ctx context.Context) error { return y.Yard.Remove(ctx, p) })
}

func (y *theYard) Keep(ctx context.Context, id string, n int, tag string) error {
	return y.call(ctx, "keep-body", id, func(ctx context.Context) error { return y.Yard.Keep(ctx, id, n, tag) })
}

func (y *theYard) Others(ctx context.Context) (out []yard.Other, err error) {
	err = y.call(ctx, "others", "", func(ctx context.Context) (err error) { out, err = y.Yard.Others(ctx); return err })
	return out, err
}

func (y *theYard) Adopt(id, container string) { y.Yard.Adopt(id, container) }

func (y *theYard) Reach(ctx context.Context, id string) (net.Conn, error) {
	return y.Yard.Reach(ctx, id)
}

func (y *theYard) Release(ctx context.Context, id string) error {
	return y.call(ctx, "release", id, func(ctx context.Context) error { return y.Yard.Release(ctx, id) })
}

// Watch passes each event on when the scheduler lets it: late, twice, or, when
// the watching breaks, not at all.
func (y *theYard) Watch(ctx context.Context, connected func(), changed func(string, yard.News)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var broken error
	err := y.Yard.Watch(ctx, connected, func(id string, news yard.News) {
		switch y.l.pass(ctx, "event", id) {
		case goOn:
			if !y.l.broken.instead("event") {
				changed(id, news)
			}
		case lostDone:
			changed(id, news)
			changed(id, news)
		case lost, refused:
			broken = yard.ErrAway
			cancel()
		}
	})
	return errors.Join(err, broken)
}

// The stewards, whose links come and go as the scheduler decides.

func (l *life) Open(link, _ string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.opened[link] = true
	return nil
}

func (l *life) Reach(link string, _ func(context.Context) (net.Conn, error)) {
	_ = l.Open(link, "")
}

func (l *life) Close(link string) error {
	l.link(link, false)
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.opened, link)
	return nil
}

// link connects or disconnects a steward, and tells whether that is news.
func (l *life) link(link string, up bool) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if (l.connected[link] != nil) == up || up && !l.opened[link] || l.over {
		return false
	}
	if up {
		l.connected[link] = make(chan struct{})
	} else {
		close(l.connected[link])
		delete(l.connected, link)
	}
	return true
}

func (l *life) Connected(link string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.connected[link] != nil
}

func (l *life) Await(ctx context.Context, link string) error {
	for !l.Connected(link) {
		select {
		case <-ctx.Done():
			return outside.ErrAway
		case <-time.After(50 * time.Millisecond):
		}
	}
	return nil
}

func (l *life) Ask(ctx context.Context, link string, r steward.Request) (*steward.Conn, error) {
	wait, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	if err := l.Await(wait, link); err != nil {
		return nil, err
	}
	id, n := bodyOf(link)
	switch v := l.pass(ctx, "ask "+string(r.Kind), id); v {
	case goOn, lostDone:
		c, ok := l.yard.Dial(id, n)
		var reply steward.Reply
		if !ok || c.Send(r) != nil || c.Receive(&reply) != nil {
			return nil, outside.ErrAway
		}
		l.mu.Lock()
		gone := l.connected[link]
		l.mu.Unlock()
		if v == lostDone || gone == nil {
			c.Stream.Close()
			return nil, outside.ErrAway
		}
		go func() { // what is under way breaks with the link
			<-gone
			c.Stream.Close()
		}()
		return c, nil
	case dead:
		return nil, errDead
	}
	return nil, outside.ErrAway
}

func bodyOf(link string) (id string, n int) {
	id, number, _ := strings.Cut(link, "-b")
	n, _ = strconv.Atoi(number)
	return id, n
}

// source makes a generator of its own from a seed.
func source(seed uint64) *rand.Rand {
	var b [32]byte
	binary.LittleEndian.PutUint64(b[:], seed)
	return rand.New(rand.NewChaCha8(b))
}
