package inside

import (
	"cmp"
	"crypto/rand"
	"errors"
	"io"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"syscall"
	"time"

	"yardbench/internal/steward"
)

// Bounds on commands that outlast a connection.
const (
	// partedMost is how long a command goes on when the connection of whoever asked for
	// it broke, and how long one that has ended can be asked how.
	partedMost = 90 * time.Second
	// partedOutput is how much it prints meanwhile before it waits. What was on its way
	// as the connection broke stands in the scrollback before that.
	partedOutput = scrollbackBytes / 2
	// maxLasting bounds those commands: more end with their connections. maxEnded bounds those of
	// them that have ended and can still be asked how.
	maxLasting = 256
	maxEnded   = 16
	// fedMost bounds the input that waits for a command; whoever counts sends less.
	fedMost = 4 << 20
	// maxStretches bounds how often what is kept changes between output and errors.
	maxStretches = 1 << 14
)

// stretch is a part of what was printed, all of one kind, up to a place.
type stretch struct {
	kind steward.FrameKind
	end  int64
}

// lasting is a command to which whoever asked for it can come back after their connection
// broke: nothing of its input and its output is lost, and nothing comes twice.
type lasting struct {
	cmd   *exec.Cmd
	alone time.Duration // how long it goes on while it is parted
	input io.WriteCloser
	out   sync.Mutex    // held while output is kept and sent, in order
	gone  chan struct{} // closed when the process has ended

	mu        sync.Mutex
	room      *sync.Cond // while it is parted: that it may print more, or is over
	life      string
	history   *scrollback
	stretches []stretch
	from      int64         // before this, what is kept has no stretch
	at        *steward.Conn // who has it; nil while parted
	parting   int           // counts partings, so that a clock knows its own
	ahead     int64         // printed since it is parted
	fed       *sync.Cond    // that there is input, or no more, or that it is over
	queue     [][]byte      // input that is not written yet
	noMore    bool          // none comes after that
	taken     int64         // of the input, in bytes
	written   int64         // of that, into the command
	givenUp   bool
	over      bool
	exit      steward.Exit
}

// lastings are those of a workspace.
type lastings struct {
	server *server
	mu     sync.Mutex
	alone  time.Duration       // how long one goes on without a connection
	all    map[string]*lasting // by label
	ended  []string            // of those, the ones that have ended, the oldest first
}

// last runs a command that outlasts its connection, or comes back to it.
func (s *lastings) last(c *steward.Conn, r steward.Request, typed, read *sign) {
	s.mu.Lock()
	l := s.all[r.ID]
	s.mu.Unlock()
	if r.Life != "" && (l == nil || l.life != r.Life) {
		_ = c.Send(steward.Reply{Problem: "the command has ended"}) // a stream that broke has no reader
		return
	}
	if r.Life == "" {
		if l != nil {
			_ = c.Send(steward.Reply{Problem: "a command of that label was begun already"})
			return
		}
		if c.Send(steward.Reply{}) != nil {
			return
		}
		var err error
		if l, err = s.begin(r, read); err != nil {
			_ = c.SendJSON(steward.Ended, steward.Exit{Code: cmp.Or(exitOf(err), 126), Problem: err.Error()})
			return
		}
	} else if c.Send(steward.Reply{}) != nil {
		return
	}
	l.attach(c, r, typed)
}

// hasRoom tells whether there is room for another that outlasts its connection; what there
// is none for ends with it.
func (s *lastings) hasRoom() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.all) < maxLasting
}

// unfit is why a command cannot be begun at all, as a shell tells it.
type unfit struct{ error }

func exitOf(err error) int {
	if errors.As(err, &unfit{}) {
		return 127
	}
	return 0
}

func (s *lastings) begin(r steward.Request, read *sign) (*lasting, error) {
	cmd, err := s.server.prepare(r.Process)
	if err != nil {
		return nil, unfit{err}
	}
	l := &lasting{cmd: cmd, life: rand.Text()[:16], gone: make(chan struct{})}
	l.room, l.fed = sync.NewCond(&l.mu), sync.NewCond(&l.mu)
	stdin, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	if l.history, err = newScrollback(s.server.runDir, &s.server.scrollRoom); err != nil {
		return nil, err
	}
	out, err := outputsOf(cmd, seen{printing{l, steward.Output}, read}, seen{printing{l, steward.Errors}, read})
	if err != nil {
		l.drop()
		return nil, err
	}
	if pipe, ok := stdin.(syscall.Conn); ok {
		widen(pipe)
	}
	l.input = stdin
	s.mu.Lock()
	l.alone = s.alone
	full, known := len(s.all) >= maxLasting, s.all[r.ID] != nil
	if !full && !known {
		s.all[r.ID] = l
	}
	s.mu.Unlock()
	if full || known {
		out.close()
		l.drop()
		return nil, errors.New("too many commands run already; end some first")
	}
	if err := cmd.Start(); err != nil {
		out.close()
		s.forget(r.ID)
		return nil, err
	}
	out.pass()
	letGo := s.server.track(cmd.Process.Pid, "run "+filepath.Base(cmd.Args[0]), r.Process.Secrets)
	go l.write()
	go func() {
		err := cmd.Wait()
		letGo()
		close(l.gone)
		out.wait()
		l.end(ended(err))
		s.keep(r.ID)
		time.Sleep(l.alone)
		s.forget(r.ID)
	}()
	return l, nil
}

// keep has no more than so many be kept that have ended, the newest.
func (s *lastings) keep(id string) {
	s.mu.Lock()
	s.ended = append(s.ended, id)
	var old []string
	if n := len(s.ended) - maxEnded; n > 0 {
		old, s.ended = slices.Clone(s.ended[:n]), s.ended[n:]
	}
	s.mu.Unlock()
	for _, id := range old {
		s.forget(id)
	}
}

// forget forgets a command, once it has ended or where it never began.
func (s *lastings) forget(id string) {
	s.mu.Lock()
	l := s.all[id]
	delete(s.all, id)
	s.ended = slices.DeleteFunc(s.ended, func(x string) bool { return x == id })
	s.mu.Unlock()
	if l != nil {
		l.drop()
	}
}

// drop gives back what is kept of it.
func (l *lasting) drop() {
	l.out.Lock()
	defer l.out.Unlock()
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.history == nil {
		return
	}
	l.history.forget(l.history.next)
	_ = l.history.file.Close() // it has no name, and nobody reads it any more
	l.history = nil
}

// printing takes what a command prints of one kind.
type printing struct {
	l *lasting
	k steward.FrameKind
}

// Write keeps what was printed and sends it on. It waits for whoever has the command, and
// where nobody has it until they are back, beyond what is kept for them.
func (w printing) Write(p []byte) (int, error) {
	l := w.l
	l.out.Lock()
	defer l.out.Unlock()
	l.mu.Lock()
	for l.at == nil && l.ahead >= partedOutput && !l.givenUp {
		l.out.Unlock() // who comes back wants what is kept
		l.room.Wait()
		l.mu.Unlock()
		l.out.Lock()
		l.mu.Lock()
	}
	c := l.at
	if l.history != nil {
		l.history.add(p)
		l.note(w.k)
	}
	if c == nil {
		l.ahead += int64(len(p))
	}
	l.mu.Unlock()
	if c != nil && c.SendFrame(w.k, p) != nil {
		l.part(c)
	}
	return len(p), nil
}

// note notes that what was printed last is of a kind. l.mu is held.
func (l *lasting) note(k steward.FrameKind) {
	if n := len(l.stretches); n > 0 && l.stretches[n-1].kind == k {
		l.stretches[n-1].end = l.history.next
		return
	}
	l.stretches = append(l.stretches, stretch{k, l.history.next})
	for len(l.stretches) > 1 && (l.stretches[0].end <= l.history.first || len(l.stretches) > maxStretches) {
		l.from, l.stretches = l.stretches[0].end, l.stretches[1:]
	}
}

// part notes that a connection broke. The command goes on for a while.
func (l *lasting) part(c *steward.Conn) {
	c.Stream.Close()
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.at != c {
		return
	}
	l.at, l.ahead = nil, 0
	l.parting++
	mine := l.parting
	time.AfterFunc(l.alone, func() {
		l.mu.Lock()
		still := l.at == nil && l.parting == mine
		l.mu.Unlock()
		if still {
			l.giveUp()
		}
	})
}

// giveUp ends the command: nobody wants it any more.
func (l *lasting) giveUp() {
	l.mu.Lock()
	l.givenUp = true
	l.room.Broadcast()
	l.mu.Unlock()
	hangUp(l.cmd, l.gone)
}

func (l *lasting) end(x steward.Exit) {
	l.out.Lock()
	defer l.out.Unlock()
	l.mu.Lock()
	l.over, l.exit = true, x
	l.room.Broadcast()
	l.fed.Broadcast()
	c := l.at
	l.mu.Unlock()
	if c != nil && c.SendJSON(steward.Ended, x) != nil {
		l.part(c)
	}
}

// attach gives the command to a connection: what it printed from a place on, then what it
// prints. Another that had it is let go.
func (l *lasting) attach(c *steward.Conn, r steward.Request, typed *sign) {
	l.mu.Lock()
	before := l.at
	l.mu.Unlock()
	if before != nil {
		l.part(before) // it is half open: what is sent there fails from now on
	}
	if l.show(c, r.From) != nil {
		l.part(c)
	} else {
		l.take(c, typed)
	}
}

// show sends what was printed from a place on, and has what is printed go to c.
func (l *lasting) show(c *steward.Conn, from int64) error {
	l.out.Lock() // nothing is printed meanwhile
	defer l.out.Unlock()
	l.mu.Lock()
	if l.history == nil {
		l.mu.Unlock()
		return errors.New("it is not kept any more")
	}
	first, next := max(l.history.first, l.from), l.history.next
	at := from
	if at < first || at > next {
		at = first
	}
	l.at = c
	place := steward.Place{Life: l.life, At: at, Taken: l.taken}
	stretches := slices.Clone(l.stretches)
	l.room.Broadcast()
	l.mu.Unlock()
	if err := c.SendJSON(steward.Placed, place); err != nil {
		return err
	}
	buf := make([]byte, chunk)
	for _, x := range stretches {
		for at < x.end {
			n, err := l.history.read(buf[:min(int64(len(buf)), x.end-at)], at)
			if err != nil || n == 0 {
				return errors.Join(err, errors.New("what was printed cannot be read"))
			}
			if err := c.SendFrame(x.kind, buf[:n]); err != nil {
				return err
			}
			at += int64(n)
		}
	}
	l.mu.Lock()
	over, x := l.over, l.exit
	l.mu.Unlock()
	if over {
		return c.SendJSON(steward.Ended, x)
	}
	return nil
}

// take takes in what c sends, until it breaks or wants the command no more.
func (l *lasting) take(c *steward.Conn, typed *sign) {
	var buf []byte
	for {
		k, p, err := c.ReceiveFrameIn(buf)
		if cap(p) > cap(buf) {
			buf = p[:0]
		}
		if err != nil {
			l.part(c)
			return
		}
		switch k {
		case steward.Input:
			typed.mark()
			if !l.feed(c, p) {
				l.part(c)
				return
			}
		case steward.NoMore:
			l.mu.Lock()
			l.noMore = true
			l.fed.Signal()
			l.mu.Unlock()
		case steward.Signal:
			signalGroup(l.cmd, string(p))
		case steward.Leave:
			l.giveUp()
			return
		}
	}
}

// feed queues input. What is queued is taken: whoever comes back sends what comes after it.
// It tells whether that may be: input of a connection that has the command no more is not
// taken, as whoever has it sends that again; nor more than anybody sends who counts.
func (l *lasting) feed(c *steward.Conn, p []byte) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.at != c || l.taken-l.written > fedMost {
		return false
	}
	l.queue = append(l.queue, slices.Clone(p))
	l.taken += int64(len(p))
	l.fed.Signal()
	return true
}

// write writes what is queued into the command, however long that leaves it unread, and
// tells whoever has it how much was written: they send no more than so much ahead of it.
func (l *lasting) write() {
	for {
		l.mu.Lock()
		for len(l.queue) == 0 && !l.noMore && !l.over {
			l.fed.Wait()
		}
		if len(l.queue) == 0 || l.over {
			l.mu.Unlock()
			l.input.Close()
			return
		}
		p := l.queue[0]
		l.queue = l.queue[1:]
		l.mu.Unlock()
		_, _ = l.input.Write(p) // a command may leave its input unread, or have ended
		l.mu.Lock()
		l.written += int64(len(p))
		c, all := l.at, l.written
		l.mu.Unlock()
		if c != nil && c.SendFrame(steward.Taken, strconv.AppendInt(nil, all, 10)) != nil {
			l.part(c)
		}
	}
}

// hangUp ends a command's process group, as a terminal's end does and then by force.
func hangUp(cmd *exec.Cmd, finished <-chan struct{}) {
	for _, sig := range []syscall.Signal{syscall.SIGHUP, syscall.SIGTERM, syscall.SIGKILL} {
		select {
		case <-finished:
			return
		default:
			_ = syscall.Kill(-cmd.Process.Pid, sig)
		}
		select {
		case <-finished:
			return
		case <-time.After(2 * time.Second):
		}
	}
}
