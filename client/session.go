package client

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gorilla/websocket"

	"yardbench/wire"
)

// Session is an open terminal or command. It comes back by itself when its connection
// breaks: what was typed meanwhile is sent then, what was printed comes, and nothing of
// either twice. A terminal goes on meanwhile for as long as its shell does, a command for
// 90 seconds; where the workspace was started by an older release, a command ends with its
// connection.
type Session struct {
	// Lost, where it is set before anything is sent or received, is told that the
	// connection broke, and with nil that it is back.
	Lost func(error)

	link    *link
	path    string
	command bool // without a terminal
	run     wire.Run
	ctx     context.Context // ends with the session
	end     context.CancelFunc

	reader sync.Mutex // held while a message is read

	mu      sync.Mutex
	closed  bool
	room    *sync.Cond // that more may be sent: for a command
	ws      *websocket.Conn
	again   func()
	place   wire.Place // of the next byte of output; without a life it cannot come back
	unsaid  []byte     // input that was not taken, as far as is known
	noMore  bool       // the input ends with that
	resize  []byte     // the newest, to be said again
	missing bool       // the connection is being made again, since lostAt
	lostAt  time.Time
}

const (
	// comesBack is how long a connection is tried to be made again.
	comesBack = 10 * time.Minute
	// typedAhead bounds what is typed while there is no connection, or none of it is
	// taken.
	typedAhead = 1 << 20
)

// Open opens a terminal or runs a command. Frames are those of [wire.Run]. The
// session ends with ctx.
func (c Workspaces) Open(ctx context.Context, ref string, in wire.Run) (*Session, error) {
	s := &Session{link: c.link, path: workspace(ref, "/session"), run: in}
	s.room = sync.NewCond(&s.mu)
	s.command = len(in.Argv) > 0 && !in.TTY
	if s.run.Typist = rand.Text(); len(in.Argv) > 0 && in.Terminal == "" {
		s.run.Terminal = "run-" + strings.ToLower(rand.Text()[:16]) // known, to come back to
	}
	s.ctx, s.end = context.WithCancel(ctx)
	context.AfterFunc(s.ctx, s.wake)
	if err := s.connect(ctx); err != nil {
		s.end()
		return nil, err
	}
	return s, nil
}

// connect opens a connection. s.mu is held, or nobody else has the session.
func (s *Session) connect(ctx context.Context) error {
	ws, err := s.link.dial(ctx, s.path)
	if err != nil {
		return err
	}
	in := s.run
	in.Life, in.From = s.place.Life, s.place.At
	in.Wake = in.Wake && in.Life == "" // one that was put to rest stays so
	if err := ws.WriteJSON(in); err != nil {
		ws.Close()
		return &Unreachable{s.link.address, err}
	}
	s.ws, s.again = ws, heard(ws, s.link.silence)
	return nil
}

// Send sends one frame. Only one goroutine may send.
func (s *Session) Send(kind byte, p []byte) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.run.Typist != "" {
		switch kind {
		case 'c':
			s.noMore = true
		case 'i':
			s.untilRoom(len(p))
			switch {
			case len(s.unsaid)+len(p) <= typedAhead:
				s.unsaid = append(s.unsaid, p...)
			case s.place.Life == "": // a helper of an older release does not count
				s.run.Typist, s.unsaid = "", nil
			case s.ctx.Err() != nil:
				return s.ctx.Err()
			default:
				return errors.New("more was typed than is taken")
			}
		case 'r':
			s.resize = p
		}
	}
	if s.missing {
		return nil // it goes when the connection is back
	}
	err := s.ws.WriteMessage(websocket.BinaryMessage, append([]byte{kind}, p...))
	if err != nil && s.place.Life != "" && s.ctx.Err() == nil {
		return nil // whoever receives finds it out
	}
	return err
}

// countsWithin is how long a helper that counts what a command takes is waited for, before
// more is sent to one than could be sent again.
const countsWithin = 5 * time.Second

// untilRoom waits until a command has taken enough of its input for more to be sent, or
// can take no more. s.mu is held. A terminal is not waited for: whoever types there is told.
func (s *Session) untilRoom(n int) {
	if !s.command || len(s.unsaid)+n <= typedAhead {
		return
	}
	patience := time.AfterFunc(countsWithin, s.wake)
	defer patience.Stop()
	for began := time.Now(); len(s.unsaid)+n > typedAhead && s.ctx.Err() == nil && (s.place.Life != "" || time.Since(began) < countsWithin); {
		s.room.Wait()
	}
}

func (s *Session) wake() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.room.Broadcast()
}

// Receive gives the next frame. A refusal is a *wire.Problem. Where output was more than is
// kept, a frame of kind q tells of the gap.
func (s *Session) Receive() (kind byte, p []byte, err error) {
	for {
		s.mu.Lock()
		ws, again := s.ws, s.again
		s.mu.Unlock()
		again()
		s.reader.Lock()
		t, m, err := ws.ReadMessage()
		s.reader.Unlock()
		if err != nil {
			ws.Close()
			if err := s.back(fmt.Errorf("the connection to the workspace ended: %w", err)); err != nil {
				return 0, nil, err
			}
			continue
		}
		if t != websocket.BinaryMessage || len(m) == 0 {
			continue
		}
		kind, p = m[0], m[1:]
		if kind == 'p' {
			var said wire.Problem
			if err := json.Unmarshal(p, &said); err != nil {
				return 0, nil, err
			}
			if passing(&said) && s.back(&said) == nil { // it may come back
				continue
			}
			return 0, nil, &said
		}
		if gap, mine := s.count(kind, p); mine && !gap {
			continue
		}
		return kind, p, nil
	}
}

// passing tells of a refusal that it may be over in a moment.
func passing(p *wire.Problem) bool { return p.Type == wire.ProblemPrefix+"steward-away" }

// count keeps count of what came and what was taken; mine tells that a frame is for
// that alone, gap that output was lost.
func (s *Session) count(kind byte, p []byte) (gap, mine bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch kind {
	case 'o':
		s.place.At += int64(len(p))
	case 'e':
		if s.command && s.place.Life != "" { // what comes before is not the command's
			s.place.At += int64(len(p))
		}
	case 'k':
		n, err := strconv.ParseInt(string(p), 10, 64)
		if err != nil {
			return false, true
		}
		s.taken(n)
		return false, true
	case 'q':
		var now wire.Place
		if json.Unmarshal(p, &now) != nil {
			return false, true
		}
		gap = s.place.Life != "" && now.At != s.place.At
		s.taken(now.Taken)
		s.place = now
		if s.missing {
			s.missing = false
			again := []frame{{'r', s.resize}}
			for rest := s.unsaid; len(rest) > 0; {
				n := min(len(rest), againBytes)
				again, rest = append(again, frame{'i', rest[:n]}), rest[n:]
			}
			if s.noMore {
				again = append(again, frame{'c', nil})
			}
			for _, f := range again {
				if f.kind == 'c' || len(f.p) > 0 {
					_ = s.ws.WriteMessage(websocket.BinaryMessage, append([]byte{f.kind}, f.p...)) // a failure shows at the next read
				}
			}
			if s.Lost != nil {
				s.Lost(nil)
			}
		}
		return gap, true
	}
	return false, false
}

// frame is one message of a session.
type frame struct {
	kind byte
	p    []byte
}

// againBytes is how much input is sent again in one message.
const againBytes = 64 << 10

// taken forgets input that was taken, n bytes in all.
func (s *Session) taken(n int64) {
	defer s.room.Broadcast()
	fresh := min(max(0, n-s.place.Taken), int64(len(s.unsaid)))
	s.unsaid = s.unsaid[fresh:]
	s.place.Taken = max(s.place.Taken, n)
}

// back makes the connection again; why is what ended it, and is given where it cannot
// come back.
func (s *Session) back(why error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.place.Life == "" || s.ctx.Err() != nil {
		return why
	}
	if !s.missing {
		if s.missing, s.lostAt = true, time.Now(); s.Lost != nil {
			s.Lost(why)
		}
	}
	for pause := firstPause; time.Since(s.lostAt) < comesBack; pause = min(2*pause, 5*time.Second) {
		s.mu.Unlock()
		select {
		case <-s.ctx.Done():
			s.mu.Lock()
			return why
		case <-time.After(pause):
		}
		s.mu.Lock()
		err := s.connect(s.ctx)
		var p *wire.Problem
		if errors.As(err, &p) && p.Status < 500 {
			return err
		}
		if err == nil {
			return nil
		}
	}
	return why
}

// Close ends the session; a terminal lives on in the workspace, a command ends.
func (s *Session) Close() error {
	s.end()
	s.mu.Lock()
	ws, again := s.ws, s.closed
	s.closed = true
	s.room.Broadcast()
	s.mu.Unlock()
	if s.command && !again {
		leave(ws, &s.reader)
	}
	return ws.Close()
}

// leaveWithin bounds how long the other end is waited for that is told that one leaves.
const leaveWithin = 2 * time.Second

// leave says that the command is wanted no more, and takes what is on its way until the
// other end has heard that: a connection that is closed over what was not read takes the
// last word with it. Where that is not heard the command ends after a while.
func leave(ws *websocket.Conn, reader *sync.Mutex) {
	if ws.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(websocket.CloseNormalClosure, ""), time.Now().Add(leaveWithin)) != nil {
		return
	}
	heard := make(chan struct{})
	go func() {
		defer close(heard)
		for {
			reader.Lock()
			_, _, err := ws.ReadMessage()
			reader.Unlock()
			if err != nil {
				return
			}
		}
	}()
	select {
	case <-heard:
	case <-time.After(leaveWithin):
	}
}
