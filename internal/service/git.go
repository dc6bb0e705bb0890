package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"yardbench/internal/core/plain"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
)

// said is what git gave.
type said struct {
	out    []byte
	cut    bool   // of out there was more
	errors string // the newest of it
	code   int
}

// refusal is the error that a failure of git is, in its own words.
func (s said) refusal() error {
	text := strings.TrimSpace(s.errors)
	first := "git could not do it"
	for _, line := range strings.Split(text, "\n") {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "hint:") {
			if first = line; strings.HasPrefix(line, "fatal:") || strings.HasPrefix(line, "error:") {
				break
			}
		}
	}
	f := conflict("git-refuses", plain.Line(first, 300), "")
	f.Output = text
	return f
}

// git runs git in the clone.
func (k clone) git(ctx context.Context, limit time.Duration, most int, input io.Reader, quiet bool, args ...string) (s said, err error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	p := k.process
	p.Folder, p.Argv, p.Quiet = k.folder, append([]string{"git"}, args...), quiet
	conn, err := k.c.files.hub.Ask(ctx, outside.Link(k.w.ID, k.w.Body), steward.Request{Kind: steward.Run, Process: p})
	if err != nil {
		return s, fromRoom(err)
	}
	defer conn.Stream.Close()
	stop := context.AfterFunc(ctx, func() { conn.Stream.Close() })
	defer stop()
	go func() {
		if input != nil {
			_, _ = io.Copy(conn.Writer(steward.Input), input) // it may leave its input unread
		}
		_ = conn.SendFrame(steward.NoMore, nil)
	}()
	if s, err = gather(conn, most); err != nil {
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			f := conflict("git-refuses", fmt.Sprintf("git did not come to its end within %s; a hook may hang", limit), "run it in a terminal, where it is seen what it waits for")
			f.Output = s.errors
			return s, f
		}
		return s, fromRoom(err)
	}
	return s, nil
}

// gather reads what a command says until its end.
func gather(conn *steward.Conn, most int) (s said, err error) {
	errs := &newest{most: saidMost}
	defer func() { s.errors = errs.text() }()
	for {
		kind, p, err := conn.ReceiveFrame()
		if err != nil {
			return s, fmt.Errorf("%w: %w", outside.ErrAway, err)
		}
		switch kind {
		case steward.Output:
			if room := most - len(s.out); len(p) > room {
				s.cut, p = true, p[:max(0, room)]
			}
			s.out = append(s.out, p...)
		case steward.Errors:
			errs.add(p)
		case steward.Ended:
			x, err := outside.ExitOf(p)
			if err == nil && x.Problem != "" {
				err = outside.Refused(plain.Line(x.Problem, 300))
			}
			s.code = x.Code
			return s, err
		}
	}
}

// newest keeps the end of a text.
type newest struct {
	kept []byte
	most int
}

func (n *newest) add(p []byte) {
	n.kept = append(n.kept, p...)
	n.kept = n.kept[max(0, len(n.kept)-n.most):]
}

// text is it, without what would move the cursor of a terminal.
func (n *newest) text() string {
	var out []string
	for _, line := range strings.Split(strings.ToValidUTF8(string(n.kept), "\uFFFD"), "\n") {
		line = strings.TrimRight(line, "\r ")
		line = line[strings.LastIndexByte(line, '\r')+1:] // of progress the last
		out = append(out, plain.Line(line, 2000))
	}
	return strings.Join(out, "\n")
}

// words are all that a command said.
func (s said) words() string {
	all := &newest{most: saidMost}
	all.add(s.out)
	if len(s.out) > 0 && !bytes.HasSuffix(s.out, []byte("\n")) {
		all.add([]byte("\n"))
	}
	all.add([]byte(s.errors))
	return strings.TrimSpace(all.text())
}
