package sim

import (
	"context"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"yardbench/internal/steward"
)

// stewardOf is the simulated steward of one running body. It speaks the real
// protocol; what it is asked to run is simulated.
type stewardOf struct {
	yard   *ground
	id     string
	number int
	ctx    context.Context
	end    context.CancelFunc
	mu     sync.Mutex
	setUps map[string]steward.Exit
	typed  time.Time
	ports  []steward.Port
	news   chan struct{} // something was typed, or listens
}

// tell has whoever watches told.
func (s *stewardOf) tell() {
	select {
	case s.news <- struct{}{}:
	default:
	}
}

func key(id string, n int) string { return id + "-b" + strconv.Itoa(n) }

// wakeSteward begins a body's steward. y.mu is held.
func (y *ground) wakeSteward(id string, n int) {
	ctx, cancel := context.WithCancel(context.Background())
	y.stewards[key(id, n)] = &stewardOf{yard: y, id: id, number: n, ctx: ctx, end: cancel, setUps: map[string]steward.Exit{}, typed: time.Now(), news: make(chan struct{}, 1)}
	y.links.moved(key(id, n))
}

// Dial opens a stream to a running body's steward without a socket between,
// for those who own all of time themselves; ok is false where none runs.
func (y *ground) Dial(id string, n int) (c *steward.Conn, ok bool) {
	y.mu.Lock()
	s := y.stewards[key(id, n)]
	y.mu.Unlock()
	if s == nil {
		return nil, false
	}
	ours, theirs := net.Pipe()
	context.AfterFunc(s.ctx, func() { theirs.Close() })
	go s.serve(&steward.Conn{Stream: theirs})
	return &steward.Conn{Stream: ours}, true
}

// serve does what one stream asks. A stream that broke has no reader, so that
// failures to write are left alone.
func (s *stewardOf) serve(c *steward.Conn) {
	defer c.Stream.Close()
	var r steward.Request
	if c.Receive(&r) != nil || s.ctx.Err() != nil {
		return
	}
	if r.Kind == steward.Dial && r.Service == "" && s.listens(r.Port) {
		if c.Send(steward.Reply{}) == nil {
			answer(c, r.Port)
		}
		return
	}
	if r.Kind == steward.Dial {
		_ = c.Send(steward.Reply{Problem: fmt.Sprintf("nothing listens on port %d: this workspace is simulated", r.Port)})
		return
	}
	if r.Process.Errand != "" {
		_ = c.Send(steward.Reply{Problem: "this workspace is simulated: it has no files and no sockets"})
		return
	}
	if r.Records {
		_ = c.Send(steward.Reply{Problem: "this workspace is simulated: nothing of its terminals is recorded"})
		return
	}
	if r.Process.Command != "" {
		r.Process.Argv = []string{"sh", "-c", r.Process.Command}
	}
	if c.Send(steward.Reply{}) != nil {
		return
	}
	switch r.Kind {
	case steward.CloneTo:
		fmt.Fprintf(c.Writer(steward.Output), "a simulated clone of %s, branch %s\n", r.URL, r.Branch)
		s.finish(c, steward.Exit{})
	case steward.Keep:
		s.finish(c, steward.Exit{})
	case steward.SetUp:
		s.mu.Lock()
		x, known := s.setUps[r.ID]
		s.mu.Unlock()
		if !known {
			s.worked(r.Process.Argv)
			out, code, _ := run(r.Process.Argv, r.Process.Env, nil)
			fmt.Fprint(c.Writer(steward.Output), out)
			x = steward.Exit{Code: code}
			s.mu.Lock()
			s.setUps[r.ID] = x
			s.mu.Unlock()
		}
		s.finish(c, x)
	case steward.Run:
		if r.Process.Errand == steward.LuggageOut || r.Process.Errand == steward.LuggageIn { // a simulated home folder has no files
			s.finish(c, steward.Exit{})
			return
		}
		s.worked(r.Process.Argv)
		out, code, ends := run(r.Process.Argv, r.Process.Env, nil)
		fmt.Fprint(c.Writer(steward.Output), out)
		if !ends { // until whoever ran it goes, or the body ends
			gone := context.AfterFunc(s.ctx, func() { c.Stream.Close() })
			defer gone()
			_, _ = io.Copy(io.Discard, c.Stream) // what is typed into it, until there is nobody
			return
		}
		s.finish(c, steward.Exit{Code: code})
	case steward.Listed:
		_ = c.Send(steward.TerminalList{Terminals: []steward.TerminalInfo{}})
	case steward.EndLeft: // what is begun in it leaves nothing running
		_ = c.Send(steward.Left{})
	case steward.Work:
		_ = c.Send(s.report())
	case steward.Terminal:
		if strings.HasPrefix(r.ID, "run-") || r.Process.Command != "" { // a command in a terminal of its own
			s.worked(r.Process.Argv)
			out, code, _ := run(r.Process.Argv, r.Process.Env, nil)
			fmt.Fprint(c.Writer(steward.Output), strings.ReplaceAll(out, "\n", "\r\n"))
			s.finish(c, steward.Exit{Code: code})
			return
		}
		s.terminal(c)
	case steward.Watch:
		for s.ctx.Err() == nil {
			s.mu.Lock()
			idle, ports := time.Since(s.typed).Milliseconds(), append([]steward.Port{}, s.ports...)
			s.mu.Unlock()
			if c.Send(steward.Status{Ports: ports, Holders: []steward.Holder{}, TypedMS: idle, ReadMS: -1, BusyMS: -1}) != nil {
				return
			}
			select {
			case <-s.ctx.Done():
			case <-s.news:
			case <-time.After(5 * time.Minute):
			}
		}
	}
}

// finish lets the time of a command pass and tells its end.
func (s *stewardOf) finish(c *steward.Conn, x steward.Exit) {
	if s.yard.pass(s.ctx, Command) == nil {
		_ = c.SendJSON(steward.Ended, x)
	}
}

// terminal echoes what is typed, and says so.
func (s *stewardOf) terminal(c *steward.Conn) {
	// What is typed and what is shown do not wait for each other.
	out := make(chan []byte, 1024)
	shown := make(chan struct{})
	go func() {
		defer close(shown)
		for p := range out {
			_ = c.SendFrame(steward.Output, p) // a stream that broke shows at the next read
		}
	}()
	left := false
	defer func() {
		close(out)
		if <-shown; left {
			_ = c.SendJSON(steward.Ended, steward.Exit{})
		}
	}()
	say := func(text string) { out <- []byte(text) }
	say("This workspace is simulated: what you type is echoed, and nothing runs.\r\n$ ")
	line := ""
	for {
		k, p, err := c.ReceiveFrame()
		if err != nil {
			return
		}
		if k != steward.Input {
			continue
		}
		s.mu.Lock()
		s.typed = time.Now()
		s.mu.Unlock()
		s.tell()
		for _, r := range string(p) {
			if r != '\r' && r != '\n' {
				line += string(r)
				say(string(r))
				continue
			}
			if strings.TrimSpace(line) == "exit" {
				left = true
				return
			}
			s.worked([]string{"sh", "-c", line})
			printed, _, _ := run([]string{"sh", "-c", line}, nil, nil)
			say("\r\n" + strings.ReplaceAll(printed, "\n", "\r\n") + "$ ")
			line = ""
		}
	}
}
