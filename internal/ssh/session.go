package ssh

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"

	"yardbench/internal/service"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
)

// Bounds on what a session is told before it begins.
const (
	maxVariables = 32
	maxCommand   = 128 << 10 // as much as a command line holds
)

// session is a shell, a command or a subsystem (RFC 4254, 6).
type session struct {
	*visit
	ch    ssh.Channel
	shell service.Shell
	env   map[string]string
	agent bool

	mu   sync.Mutex
	conn *steward.Conn // once it runs
}

// given tells whether a variable of the visitor's may come with them: their
// language, and how much colour their terminal has.
func given(name string) bool {
	return name == "LANG" || name == "COLORTERM" || name == "TZ" || strings.HasPrefix(name, "LC_")
}

// serve answers what is asked of the session, until it is over.
func (s *session) serve(requests <-chan *ssh.Request) {
	ctx, cancel := context.WithCancel(s.ctx)
	defer cancel()
	defer s.ch.Close()
	begun := false
	for r := range requests {
		ok := false
		switch r.Type {
		case "pty-req":
			var in struct {
				Term                         string
				Columns, Rows, Width, Height uint32
				Modes                        string
			}
			if ok = !begun && ssh.Unmarshal(r.Payload, &in) == nil; ok {
				s.shell.TTY, s.shell.Term, s.shell.Columns, s.shell.Rows = true, clean(in.Term), int(in.Columns), int(in.Rows)
			}
		case "env":
			var in struct{ Name, Value string }
			if ok = !begun && ssh.Unmarshal(r.Payload, &in) == nil && given(in.Name) && len(s.env) < maxVariables; ok {
				s.env[in.Name] = in.Value
			}
		case "auth-agent-req@openssh.com":
			ok, s.agent = !begun, !begun
		case "shell", "exec", "subsystem":
			var in struct{ What string }
			if begun || r.Type != "shell" && ssh.Unmarshal(r.Payload, &in) != nil || len(in.What) > maxCommand || r.Type == "subsystem" && in.What != "sftp" {
				break
			}
			ok, begun = true, true
			if r.WantReply { // before anything of it: one that is refused at once closes the channel
				_ = r.Reply(true, nil) // it may be gone
				r.WantReply = false
			}
			kind := r.Type
			s.wg.Go(func() {
				defer cancel()
				defer s.ch.Close()
				s.run(ctx, kind, in.What)
			})
		case "window-change":
			var in struct{ Columns, Rows, Width, Height uint32 }
			if ok = ssh.Unmarshal(r.Payload, &in) == nil; ok {
				s.send(steward.Resize, fmt.Appendf(nil, `{"columns": %d, "rows": %d}`, in.Columns, in.Rows))
			}
		case "signal":
			var in struct{ Name string }
			if ok = ssh.Unmarshal(r.Payload, &in) == nil; ok {
				s.send(steward.Signal, []byte(in.Name))
			}
		}
		if r.WantReply {
			_ = r.Reply(ok, nil) // it may be gone
		}
	}
}

// clean is the kind of a terminal, of which programs look for a file by that name.
func clean(term string) string {
	if len(term) > 64 || strings.ContainsFunc(term, func(r rune) bool {
		return !strings.ContainsRune("+-._", r) && (r < '0' || r > '9') && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z')
	}) {
		return ""
	}
	return term
}

func (s *session) send(k steward.FrameKind, p []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.conn != nil {
		_ = s.conn.SendFrame(k, p) // it may have ended
	}
}

// exit tells how it ended; 255 is what is not the command's own.
func (s *session) exit(code int) {
	_, _ = s.ch.SendRequest("exit-status", false, ssh.Marshal(struct{ Code uint32 }{uint32(code)})) // it may be gone
}

// run has a session's command run, and waits for its end.
func (s *session) run(ctx context.Context, kind, what string) {
	end := "\n"
	if s.shell.TTY {
		end = "\r\n"
	}
	tell := func(line string) {
		_, _ = io.WriteString(s.ch.Stderr(), "yardbench: "+strings.ReplaceAll(line, "\n", end)+end) // it may be gone
	}
	leave, err := s.arrive(tell)
	if err != nil {
		tell(said(err))
		s.exit(255)
		return
	}
	defer leave()
	if s.agent && kind != "subsystem" {
		path := "/tmp/yardbench-agent-" + rand.Text() + "/agent"
		if err := s.visit.agent(ctx, path); err != nil {
			tell(said(err))
		} else {
			s.env["SSH_AUTH_SOCK"] = path
		}
	}
	s.shell.Env, s.shell.Terminal = s.env, s.label
	var c *steward.Conn
	var seat *service.Seat
	if kind == "subsystem" {
		c, err = s.service.Sessions.Errand(ctx, s.who, s.ref, steward.SFTP)
	} else {
		s.shell.Command = what
		c, seat, err = s.service.Sessions.Enter(ctx, s.who, s.ref, s.shell)
	}
	if err != nil {
		tell(said(err))
		s.exit(255)
		return
	}
	defer c.Stream.Close()
	stop := context.AfterFunc(ctx, func() { c.Stream.Close() })
	defer stop()
	s.mu.Lock()
	s.conn = c
	s.mu.Unlock()
	go func() { // ends with the channel
		buf := make([]byte, 32<<10)
		for {
			n, err := s.ch.Read(buf)
			if n > 0 && c.SendFrame(steward.Input, buf[:n]) != nil {
				return
			}
			if err != nil {
				_ = c.SendFrame(steward.NoMore, nil) // it may have ended
				return
			}
		}
	}()
	if seat != nil {
		recorded := false
		select { // how it is now is said before anything is shown
		case here := <-seat.News:
			recorded = tellRecorded(false, here.Recorded, tell)
		default:
		}
		go func() {
			for {
				select {
				case <-ctx.Done():
					return
				case here := <-seat.News:
					recorded = tellRecorded(recorded, here.Recorded, tell)
				}
			}
		}()
	}
	s.pass(c, tell)
}

// tellRecorded says when what a terminal prints begins to be recorded, or ceases.
func tellRecorded(was, is bool, tell func(string)) bool {
	switch {
	case is && !was:
		tell("what this terminal prints is recorded from now on")
	case was && !is:
		tell("it is not recorded any more")
	}
	return is
}

// pass passes on what a process prints, until its end.
func (s *session) pass(c *steward.Conn, tell func(string)) {
	var buf []byte
	for {
		k, p, err := c.ReceiveFrameIn(buf)
		if cap(p) > cap(buf) {
			buf = p[:0]
		}
		if err != nil {
			if s.ctx.Err() == nil {
				tell("the workspace went away; look how it is, and come again")
			}
			s.exit(255)
			return
		}
		switch k {
		case steward.Output:
			_, err = s.ch.Write(p)
		case steward.Errors:
			_, err = s.ch.Stderr().Write(p)
		case steward.Ended:
			x, err := outside.ExitOf(p)
			if err != nil {
				slog.Warn("how a command ended cannot be read", "error", err)
				x.Code = 255
			}
			if x.Problem != "" {
				tell(x.Problem)
			}
			// How it ended goes before the end of what it printed: a client that has said all
			// of its own answers that by closing the channel, and nothing is said after.
			s.exit(x.Code)
			_ = s.ch.CloseWrite()
			return
		}
		if err != nil {
			return // whoever came has gone: so does the command
		}
	}
}
