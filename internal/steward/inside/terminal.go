package inside

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"

	"yardbench/internal/steward"
)

// Bounds on terminals.
const (
	maxTerminals = 128
	maxTypists   = 64
	// slowest is how long one watcher may hold a terminal's output up.
	slowest = 10 * time.Second
	// chunk is how much of the scrollback goes to a watcher at once, and is held back
	// from the others meanwhile.
	chunk = 128 << 10
	// behind is how much of what is printed meanwhile is sent after the scrollback to
	// one who does not catch up; then they go on with the newest.
	behind = scrollbackBytes
	// awaited is how long what is printed waits for one who records it.
	awaited = 3 * time.Second
)

// terminal is a shell that outlives whoever looks at it.
type terminal struct {
	cmd      *exec.Cmd
	file     *os.File
	mu       sync.Mutex
	watchers map[*steward.Conn]bool // whether they are somebody who is at it
	recorded chan struct{}          // where it is awaited: closed when somebody records
	once     sync.Once              // of that
	size     steward.Size
	life     string // tells it from others of its label, before and after
	label    string
	since    time.Time
	history  *scrollback
	taken    map[string]int64 // bytes of input, by who typed
	order    []string         // of those, the oldest first
	over     bool
	exit     steward.Exit
	signs    *signs
	passing  bool          // it ends with the last who looks
	opened   chan struct{} // closed once it is open, or with problem set
	problem  error
}

// terminal finds the terminal with the request's label, or opens it.
func (s *server) terminal(r steward.Request) (*terminal, error) {
	s.mu.Lock()
	t := s.terminals[r.ID]
	if r.Life != "" && (t == nil || t.life != r.Life) {
		s.mu.Unlock()
		return nil, errors.New("the terminal has ended")
	}
	as := r.Looks || r.Joins || r.Records // it is
	if as && t == nil {
		s.mu.Unlock()
		return nil, errors.New("there is no such terminal open")
	}
	if t != nil { // or is being opened
		s.mu.Unlock()
		<-t.opened // bounded: whoever opens it asks the shell for a bounded time
		if t.problem == nil && !as {
			t.resize(steward.Size{Columns: r.Columns, Rows: r.Rows})
		}
		return t, t.problem
	}
	if n := len(s.terminals); n >= maxTerminals {
		s.mu.Unlock()
		return nil, fmt.Errorf("%d terminals are open already; end one first", n)
	}
	t = &terminal{watchers: map[*steward.Conn]bool{}, signs: &s.signs, passing: r.Passing, opened: make(chan struct{}), life: rand.Text()[:16], label: r.ID, since: time.Now(), taken: map[string]int64{}}
	if r.Recorded {
		t.recorded = make(chan struct{})
	}
	s.terminals[r.ID] = t
	s.mu.Unlock()
	defer close(t.opened)
	if t.problem = s.openShell(t, r); t.problem != nil {
		s.mu.Lock()
		delete(s.terminals, r.ID)
		s.mu.Unlock()
	}
	return t, t.problem
}

// openShell starts a terminal's shell.
func (s *server) openShell(t *terminal, r steward.Request) error {
	cmd, err := s.prepare(r.Process)
	if err != nil {
		return err
	}
	cmd.SysProcAttr.Setctty = true
	f, err := pty.StartWithAttrs(cmd, winsize(steward.Size{Columns: r.Columns, Rows: r.Rows}), cmd.SysProcAttr)
	if err != nil {
		return fmt.Errorf("open a terminal: %w", err)
	}
	t.cmd, t.file, t.size = cmd, f, sizeOf(winsize(steward.Size{Columns: r.Columns, Rows: r.Rows}))
	if t.history, err = newScrollback(s.runDir, &s.scrollRoom); err != nil {
		_ = cmd.Process.Kill() // it may have ended
		_ = cmd.Wait()
		f.Close()
		return fmt.Errorf("open a terminal: %w", err)
	}
	if a, err := lookup(r.Process.User); err == nil && r.Process.GitHost != "" && !(trees{s}).hasGit(a, r.Process) {
		t.history.add([]byte(noGit + "\r\n"))
	}
	if r.First != "" {
		_, _ = f.WriteString(r.First + "\n") // the shell reads it when it is ready; a terminal holds that much
	}
	letGo := s.track(cmd.Process.Pid, "terminal "+r.ID, r.Process.Secrets)
	go func() {
		t.pump()
		err := cmd.Wait()
		letGo()
		s.mu.Lock()
		delete(s.terminals, r.ID)
		s.mu.Unlock()
		t.end(ended(err))
	}()
	return nil
}

// pump passes on what the shell prints until it ends.
func (t *terminal) pump() {
	if t.recorded != nil {
		select {
		case <-t.recorded:
		case <-time.After(awaited):
		}
	}
	buf := make([]byte, 32<<10)
	for {
		n, err := t.file.Read(buf)
		if n > 0 {
			t.mu.Lock()
			t.history.add(buf[:n])
			if t.attended() {
				t.signs.read.mark()
			}
			for w := range t.watchers {
				t.send(w, buf[:n])
			}
			t.mu.Unlock()
		}
		if err != nil {
			return // EIO: the last process that held the terminal is gone
		}
	}
}

// attended tells whether somebody is at it. t.mu is held.
func (t *terminal) attended() bool {
	for _, somebody := range t.watchers {
		if somebody {
			return true
		}
	}
	return false
}

// send writes to one watcher, with t.mu held; one that is too slow is let go.
func (t *terminal) send(w *steward.Conn, p []byte) {
	limit(w)
	if w.SendFrame(steward.Output, p) != nil {
		delete(t.watchers, w)
		w.Stream.Close()
	}
}

// limit bounds how long the next write to a watcher may hold everybody up.
func limit(w *steward.Conn) {
	type deadliner interface{ SetWriteDeadline(time.Time) error }
	if d, ok := w.Stream.(deadliner); ok {
		_ = d.SetWriteDeadline(time.Now().Add(slowest)) // a stream that is closed fails at the write
	}
}

func (t *terminal) end(x steward.Exit) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.over, t.exit = true, x
	t.file.Close()
	t.history.room.Add(t.history.size) // its file goes with the last who is being shown it
	t.history.size = 0
	for w := range t.watchers {
		limit(w)
		_ = w.SendJSON(steward.Ended, x)
		w.Stream.Close()
	}
}

// show sends a watcher the scrollback from a place on, and makes them one to whom
// what is printed goes: nothing is lost in between, and nothing comes twice. Where
// they cannot be sent what they want, a [steward.Place] says with what they go on.
func (t *terminal) show(c *steward.Conn, r steward.Request) (watches bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	limit(c)
	if c.Send(steward.Reply{}) != nil {
		return false
	}
	at := r.From
	if r.Life != t.life || at < t.history.first || at > t.history.next {
		at = t.history.first
		if r.Records && r.Life == "" { // from now on
			at = t.history.next
		}
	}
	place := func() bool {
		return r.Typist == "" || c.SendJSON(steward.Placed, steward.Place{Life: t.life, At: at, Taken: t.taken[r.Typist]}) == nil
	}
	if !place() {
		return false
	}
	size := t.size
	if r.Records && c.SendJSON(steward.Resize, size) != nil {
		return false
	}
	last := t.history.next + behind
	buf := make([]byte, chunk)
	for {
		if !t.over && (at < t.history.first || at > last && t.history.next-at > chunk) {
			at = max(t.history.first, t.history.next-chunk)
			if !place() {
				return false
			}
		}
		n, err := t.history.read(buf, at)
		if err != nil || n == 0 { // all of it, or it has ended
			break
		}
		at += int64(n)
		if at >= t.history.next { // the last of it is one step with becoming a watcher
			limit(c)
			if c.SendFrame(steward.Output, buf[:n]) != nil {
				return false
			}
			break
		}
		t.mu.Unlock() // others are not held up by it
		limit(c)
		err = c.SendFrame(steward.Output, buf[:n])
		t.mu.Lock()
		if err != nil {
			return false
		}
	}
	if t.over {
		_ = c.SendJSON(steward.Ended, t.exit)
		return false
	}
	if r.Records {
		limit(c)
		if size != t.size && c.SendJSON(steward.Resize, t.size) != nil {
			return false
		}
		if t.recorded != nil {
			t.once.Do(func() { close(t.recorded) })
		}
	}
	t.watchers[c] = !r.Records
	return true
}

// take notes that so much of somebody's input is taken, and gives how much in all; what
// they send again after a connection broke is known by it. It is noted before it is
// written: whoever comes back when the shell has answered must not be told less than
// that had. What waits to be written goes in before what comes later.
func (t *terminal) take(typist string, n int) (all int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if _, known := t.taken[typist]; !known {
		if len(t.order) >= maxTypists {
			delete(t.taken, t.order[0])
			t.order = t.order[1:]
		}
		t.order = append(t.order, typist)
	}
	t.taken[typist] += int64(n)
	return t.taken[typist]
}

// attach answers one watcher, shows the terminal to them and takes what they type.
func (t *terminal) attach(c *steward.Conn, r steward.Request) {
	if !t.show(c, r) {
		return
	}
	defer func() {
		t.mu.Lock()
		delete(t.watchers, c)
		alone := t.passing && !r.Records && !t.attended() && !t.over
		t.mu.Unlock()
		if alone {
			_ = syscall.Kill(-t.cmd.Process.Pid, syscall.SIGHUP) // as a terminal's end does
			t.file.Close()
		}
	}()
	for {
		k, p, err := c.ReceiveFrame()
		if err != nil {
			return
		}
		if r.Looks || r.Records {
			continue // it is not theirs to type
		}
		switch k {
		case steward.Input:
			t.signs.typed.mark()
			all := int64(0)
			if r.Typist != "" {
				all = t.take(r.Typist, len(p))
			}
			if _, err := t.file.Write(p); err != nil {
				return
			}
			if limit(c); r.Typist != "" && c.SendFrame(steward.Taken, strconv.AppendInt(nil, all, 10)) != nil {
				return
			}
		case steward.Signal:
			signalGroup(t.cmd, string(p))
		case steward.Resize:
			var size steward.Size
			if json.Unmarshal(p, &size) == nil && !r.Joins {
				t.resize(size)
			}
		}
	}
}

// notice shows a line to everybody who looks at a terminal. The shell does not
// see it.
func (s *server) notice(text string) {
	s.mu.Lock()
	all := make([]*terminal, 0, len(s.terminals))
	for _, t := range s.terminals {
		all = append(all, t)
	}
	s.mu.Unlock()
	for _, t := range all {
		t.mu.Lock()
		for w := range t.watchers {
			t.send(w, []byte("\r\n\x1b[7m "+text+" \x1b[0m\r\n"))
		}
		t.mu.Unlock()
	}
}

func (t *terminal) resize(s steward.Size) {
	size := winsize(s)
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.over {
		return
	}
	_ = pty.Setsize(t.file, size) // one that is ending has none
	if now := sizeOf(size); now != t.size {
		t.size = now
		for w, somebody := range t.watchers {
			if limit(w); !somebody && w.SendJSON(steward.Resize, now) != nil {
				delete(t.watchers, w)
				w.Stream.Close()
			}
		}
	}
}

func sizeOf(w *pty.Winsize) steward.Size {
	return steward.Size{Columns: int(w.Cols), Rows: int(w.Rows)}
}

func winsize(s steward.Size) *pty.Winsize {
	clamp := func(n, or int) uint16 {
		if n < 1 || n > 2000 {
			return uint16(or)
		}
		return uint16(n)
	}
	return &pty.Winsize{Cols: clamp(s.Columns, 80), Rows: clamp(s.Rows, 24)}
}

// listed tells of the terminals that are open.
func (s *server) listed() steward.TerminalList {
	s.mu.Lock()
	all := make([]*terminal, 0, len(s.terminals))
	for _, t := range s.terminals {
		all = append(all, t)
	}
	s.mu.Unlock()
	out := steward.TerminalList{Terminals: []steward.TerminalInfo{}}
	for _, t := range all {
		select {
		case <-t.opened:
		default:
			continue // it is being opened
		}
		if t.problem == nil {
			out.Terminals = append(out.Terminals, steward.TerminalInfo{Label: t.label, Program: t.inFront(), SinceMS: time.Since(t.since).Milliseconds()})
		}
	}
	return out
}

// inFront is the name of the program that has the terminal now (tcgetpgrp(3)).
func (t *terminal) inFront() string {
	group := 0
	raw, err := t.file.SyscallConn()
	if err == nil {
		err = raw.Control(func(fd uintptr) { group, _ = unix.IoctlGetInt(int(fd), unix.TIOCGPGRP) }) // 0 where it has ended
	}
	if err != nil || group <= 0 {
		return ""
	}
	name, err := os.ReadFile("/proc/" + strconv.Itoa(group) + "/comm")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(name))
}
