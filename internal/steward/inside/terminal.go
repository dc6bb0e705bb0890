package inside

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"

	"github.com/creack/pty"

	"yardbench/internal/steward"
)

// Bounds on terminals.
const (
	maxTerminals    = 32
	scrollbackBytes = 256 << 10
	// slowest is how long one watcher may hold a terminal's output up.
	slowest = 10 * time.Second
)

// terminal is a shell that outlives whoever looks at it.
type terminal struct {
	cmd      *exec.Cmd
	file     *os.File
	mu       sync.Mutex
	watchers map[*steward.Conn]bool
	history  []byte // the newest output
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
	if t != nil { // or is being opened
		s.mu.Unlock()
		<-t.opened // bounded: whoever opens it asks the shell for a bounded time
		if t.problem == nil {
			t.resize(steward.Size{Columns: r.Columns, Rows: r.Rows})
		}
		return t, t.problem
	}
	if n := len(s.terminals); n >= maxTerminals {
		s.mu.Unlock()
		return nil, fmt.Errorf("%d terminals are open already; end one first", n)
	}
	t = &terminal{watchers: map[*steward.Conn]bool{}, signs: &s.signs, passing: r.Passing, opened: make(chan struct{})}
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
	t.cmd, t.file = cmd, f
	if a, err := lookup(r.Process.User); err == nil && r.Process.GitHost != "" && !(trees{s}).hasGit(a, r.Process) {
		t.history = []byte(noGit + "\r\n")
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
	buf := make([]byte, 32<<10)
	for {
		n, err := t.file.Read(buf)
		if n > 0 {
			t.mu.Lock()
			t.history = append(t.history, buf[:n]...)
			if over := len(t.history) - scrollbackBytes; over > 0 {
				t.history = append([]byte(nil), t.history[over:]...)
			}
			if len(t.watchers) > 0 {
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
	for w := range t.watchers {
		limit(w)
		_ = w.SendJSON(steward.Ended, x)
		w.Stream.Close()
	}
}

// attach answers one watcher, shows the terminal to them and takes what they
// type. From the answer on they miss nothing: it and their place among the
// watchers are one step.
func (t *terminal) attach(c *steward.Conn) {
	t.mu.Lock()
	limit(c)
	if c.Send(steward.Reply{}) != nil {
		t.mu.Unlock()
		return
	}
	if len(t.history) > 0 {
		t.send(c, t.history) // a failure shows at the next read
	}
	if t.over {
		_ = c.SendJSON(steward.Ended, t.exit)
		t.mu.Unlock()
		return
	}
	t.watchers[c] = true
	t.mu.Unlock()
	defer func() {
		t.mu.Lock()
		delete(t.watchers, c)
		alone := t.passing && len(t.watchers) == 0 && !t.over
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
		switch k {
		case steward.Input:
			t.signs.typed.mark()
			if _, err := t.file.Write(p); err != nil {
				return
			}
		case steward.Signal:
			signalGroup(t.cmd, string(p))
		case steward.Resize:
			var size steward.Size
			if json.Unmarshal(p, &size) == nil {
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

func (t *terminal) resize(s steward.Size) { _ = pty.Setsize(t.file, winsize(s)) } // a terminal that ended has no size

func winsize(s steward.Size) *pty.Winsize {
	clamp := func(n, or int) uint16 {
		if n < 1 || n > 2000 {
			return uint16(or)
		}
		return uint16(n)
	}
	return &pty.Winsize{Cols: clamp(s.Columns, 80), Rows: clamp(s.Rows, 24)}
}
