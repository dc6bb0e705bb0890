// Package outside is the service's end of the steward's protocol: a socket
// for each workspace body, the connections that come in over it, and what can
// be asked over them. It touches its folder of links and those connections.
package outside

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/hashicorp/yamux"

	"yardbench/internal/core/plain"
	"yardbench/internal/steward"
)

// Bounds on what comes over a body's link. A body's root may open its socket as
// often as it likes, and say what it likes.
const (
	// helloTimeout bounds the exchange before a connection counts, and what a
	// stream is opened for.
	helloTimeout = 10 * time.Second
	// maxConnections bounds the connections of one link that are being taken: the
	// one there is, the one that replaces it, and a few that prove to be nobody's.
	maxConnections = 8
	// maxStreams bounds the streams that a steward has open: each stands for a
	// program that asks for git's way out.
	maxStreams = 64
	// After maxSessions connections within sessionWindow the next one counts when
	// the window has passed: each has the workspace looked at.
	maxSessions   = 10
	sessionWindow = time.Minute
)

// ErrAway says that a body's steward is not connected.
var ErrAway = errors.New("the workspace's steward is not connected")

// Refused is a steward's word why it will not do what it was asked.
type Refused string

func (r Refused) Error() string { return string(r) }

// Link names the link to the steward of one body of a workspace.
func Link(workspace string, body int) string { return workspace + "-b" + strconv.Itoa(body) }

// WorkspaceOf is whose a link is.
func WorkspaceOf(link string) string {
	w, _, _ := strings.Cut(link, "-b")
	return w
}

// Hub keeps the links to all stewards.
type Hub struct {
	dir string
	// Changed is called, if set, when a steward has come or gone.
	Changed func(id string)
	// Serve answers the streams that a steward opens.
	Serve func(id string, r steward.Request, c *steward.Conn)

	mu    sync.Mutex
	links map[string]*link
}

type link struct {
	id       string
	token    string
	listener net.Listener
	session  *yamux.Session
	sessions []time.Time   // when the newest of them came, at most maxSessions
	taking   chan struct{} // of maxConnections
	streams  chan struct{} // of maxStreams
	came     chan struct{} // closed when a session comes; replaced when it goes
	// Of a link for which we dial:
	end     context.CancelFunc // ends the dialling
	dialled chan struct{}      // closed when it is given up; nil while nobody dials
	problem error              // why the last call failed
}

func newLink(id string) *link {
	return &link{id: id, came: make(chan struct{}), taking: make(chan struct{}, maxConnections), streams: make(chan struct{}, maxStreams)}
}

// NewHub keeps its links under dir, one folder each.
func NewHub(dir string) *Hub { return &Hub{dir: dir, links: map[string]*link{}} }

// Folder is where a link's socket and token are: what a body of this machine
// has mounted.
func (h *Hub) Folder(id string) string { return filepath.Join(h.dir, id) }

// Open listens for the steward of a body. Opened already, it stays as it is.
func (h *Hub) Open(id, token string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	folder := h.Folder(id)
	if h.links[id] != nil {
		return nil
	}
	// Only the container's root may use what is in the folder.
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(folder, "token"), []byte(token), 0o600); err != nil {
		return err
	}
	path := filepath.Join(folder, "steward.sock")
	if err := os.Remove(path); err != nil && !os.IsNotExist(err) {
		return err
	}
	l, err := net.Listen("unix", path)
	if err != nil {
		return fmt.Errorf("listen for the steward: %w", err)
	}
	if err := os.Chmod(path, 0o600); err != nil {
		return errors.Join(err, l.Close())
	}
	k := newLink(id)
	k.token, k.listener = token, l
	h.links[id] = k
	go h.accept(k)
	return nil
}

// ErrNoUse says, of a way to a steward, that there is no use in trying again.
var ErrNoUse = errors.New("there is no use in trying again")

// Reach keeps a connection to a steward that cannot dial: dial opens one, and
// another when that breaks, until it answers [ErrNoUse] or the link is closed.
// While it is at it another call changes nothing.
func (h *Hub) Reach(id string, dial func(ctx context.Context) (net.Conn, error)) {
	h.mu.Lock()
	defer h.mu.Unlock()
	k := h.links[id]
	if k == nil {
		k = newLink(id)
		h.links[id] = k
	}
	if k.dialled != nil {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	k.end, k.dialled, k.problem = cancel, make(chan struct{}), nil
	go h.reach(ctx, k, dial)
}

// Between calls passes at least the first time, and at most the second.
const (
	callsAfter = 200 * time.Millisecond
	callsMost  = 15 * time.Second
)

func (h *Hub) reach(ctx context.Context, k *link, dial func(ctx context.Context) (net.Conn, error)) {
	defer k.end()
	for wait := callsAfter; ; wait = min(2*wait, callsMost) {
		began := time.Now()
		limited, cancel := context.WithTimeout(ctx, 2*helloTimeout)
		conn, err := dial(limited)
		cancel()
		if err == nil {
			stop := context.AfterFunc(ctx, func() { conn.Close() })
			h.take(k, conn)
			stop()
			err = errors.New("its steward went away")
			if time.Since(began) > time.Minute {
				wait = callsAfter
			}
		}
		h.mu.Lock()
		k.problem = err
		if errors.Is(err, ErrNoUse) || ctx.Err() != nil {
			close(k.dialled)
			k.dialled = nil
			h.mu.Unlock()
			return
		}
		h.mu.Unlock()
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
	}
}

// Close ends the link to a body and removes its folder.
func (h *Hub) Close(id string) error {
	h.mu.Lock()
	k := h.links[id]
	delete(h.links, id)
	h.mu.Unlock()
	if k != nil {
		k.close()
		if s := h.session(k); s != nil {
			s.Close()
		}
	}
	return os.RemoveAll(filepath.Join(h.dir, filepath.Base(id)))
}

// close has nobody come any more.
func (k *link) close() {
	if k.listener != nil {
		k.listener.Close()
	}
	if k.end != nil {
		k.end()
	}
}

// Shut ends all links and leaves their folders for the next start.
func (h *Hub) Shut() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, k := range h.links {
		k.close()
		if k.session != nil {
			k.session.Close()
		}
	}
}

func (h *Hub) session(k *link) *yamux.Session {
	h.mu.Lock()
	defer h.mu.Unlock()
	return k.session
}

func (h *Hub) accept(k *link) {
	for {
		conn, err := k.listener.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			time.Sleep(50 * time.Millisecond) // too many open files, say: it passes
			continue
		}
		select {
		case k.taking <- struct{}{}:
			go func() {
				defer func() { <-k.taking }()
				h.take(k, conn)
			}()
		default:
			conn.Close()
			time.Sleep(50 * time.Millisecond) // who dials without end is not answered as fast
		}
	}
}

// take makes a connection the body's session, if it proves to be its steward.
func (h *Hub) take(k *link, conn net.Conn) {
	defer conn.Close()
	session, err := yamux.Client(conn, steward.Multiplex())
	if err != nil {
		return
	}
	defer session.Close()
	_ = conn.SetDeadline(time.Now().Add(helloTimeout)) // a failure shows at the next read
	stream, err := session.AcceptStream()
	if err != nil {
		return
	}
	c := &steward.Conn{Stream: stream}
	var hello steward.Hello
	if err := c.ReceiveAtMost(&hello, steward.MaxAsked); err != nil {
		return
	}
	w := steward.Welcome{Version: steward.Agree(hello.Versions)}
	switch {
	case subtle.ConstantTimeCompare([]byte(hello.Token), []byte(k.token)) != 1:
		w.Refusal = "this is not the workspace's token"
	case w.Version == 0:
		w.Refusal = fmt.Sprintf("none of the protocol versions %v is spoken here", hello.Versions)
	}
	if err := c.Send(w); err != nil || w.Refusal != "" {
		return
	}
	_ = conn.SetDeadline(time.Time{})
	h.mu.Lock()
	wait := k.wait(time.Now())
	h.mu.Unlock()
	select {
	case <-time.After(wait):
	case <-session.CloseChan():
		return
	}
	h.mu.Lock()
	k.sessions = append(k.sessions, time.Now())
	k.sessions = k.sessions[max(0, len(k.sessions)-maxSessions):]
	if old := k.session; old != nil {
		old.Close() // the steward dials anew only when it has given up on the old one
	} else {
		close(k.came)
	}
	k.session = session
	h.mu.Unlock()
	h.changed(k.id)
	for {
		stream, err := session.AcceptStream()
		if err != nil {
			break
		}
		select {
		case k.streams <- struct{}{}:
			go func() {
				defer func() { <-k.streams }()
				h.serve(k.id, stream)
			}()
		default:
			stream.Close()
		}
	}
	h.mu.Lock()
	if k.session == session {
		k.session, k.came = nil, make(chan struct{})
	}
	h.mu.Unlock()
	h.changed(k.id)
}

func (h *Hub) changed(id string) {
	if h.Changed != nil {
		h.Changed(id)
	}
}

// wait is how long a connection that comes now must wait until it counts.
func (k *link) wait(now time.Time) time.Duration {
	if len(k.sessions) < maxSessions {
		return 0
	}
	return max(0, sessionWindow-now.Sub(k.sessions[0]))
}

func (h *Hub) serve(id string, stream *yamux.Stream) {
	defer stream.Close()
	c := &steward.Conn{Stream: stream}
	var r steward.Request
	_ = stream.SetReadDeadline(time.Now().Add(helloTimeout)) // a failure shows at the read
	if err := c.ReceiveAtMost(&r, steward.MaxAsked); err != nil {
		return
	}
	_ = stream.SetReadDeadline(time.Time{})
	if h.Serve == nil || r.Kind != steward.Git && r.Kind != steward.Agent && r.Kind != steward.Asks {
		_ = c.Send(steward.Reply{Problem: "the service does not do that"}) // a broken stream has no reader
		return
	}
	if c.Send(steward.Reply{}) == nil {
		h.Serve(id, r, c)
	}
}

// Connected tells whether a body's steward is connected.
func (h *Hub) Connected(id string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	k := h.links[id]
	return k != nil && k.session != nil
}

// Await waits until a body's steward is connected.
func (h *Hub) Await(ctx context.Context, id string) error {
	h.mu.Lock()
	k := h.links[id]
	if k == nil {
		h.mu.Unlock()
		return ErrAway
	}
	came, dialled := k.came, k.dialled
	h.mu.Unlock()
	select {
	case <-came:
		return nil
	case <-dialled:
	case <-ctx.Done():
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if k.problem != nil {
		return fmt.Errorf("%w: %w", ErrAway, k.problem)
	}
	return ErrAway
}

// comesBack is how long somebody who asks waits for a steward that is away:
// after a restart of the service it dials again within this time.
const comesBack = 3 * time.Second

func (h *Hub) sessionOf(ctx context.Context, id string) (*yamux.Session, error) {
	ctx, cancel := context.WithTimeout(ctx, comesBack)
	defer cancel()
	if err := h.Await(ctx, id); err != nil {
		return nil, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if k := h.links[id]; k != nil && k.session != nil {
		return k.session, nil
	}
	return nil, ErrAway
}

// Ask opens a stream to a body's steward and waits for its word that it will
// do what is asked. The stream is the caller's to close.
func (h *Hub) Ask(ctx context.Context, id string, r steward.Request) (*steward.Conn, error) {
	session, err := h.sessionOf(ctx, id)
	if err != nil {
		return nil, err
	}
	stream, err := session.OpenStream()
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrAway, err)
	}
	stop := context.AfterFunc(ctx, func() { stream.Close() })
	c := &steward.Conn{Stream: stream}
	var reply steward.Reply
	err = c.Send(r)
	if err == nil {
		err = c.Receive(&reply)
	}
	if !stop() && err == nil {
		err = ctx.Err()
	}
	switch {
	case err != nil:
		stream.Close()
		return nil, fmt.Errorf("%w: %w", ErrAway, err)
	case reply.Problem != "":
		stream.Close()
		return nil, Refused(plain.Line(reply.Problem, maxProblem))
	}
	return c, nil
}

// maxProblem bounds what a steward says went wrong, in characters: it is told in
// launch sheets and in the journal.
const maxProblem = 500

// Follow passes a stream's output to w until the process ends.
func Follow(ctx context.Context, c *steward.Conn, w interface{ Write([]byte) (int, error) }) (steward.Exit, error) {
	stop := context.AfterFunc(ctx, func() { c.Stream.Close() })
	defer stop()
	for {
		k, p, err := c.ReceiveFrame()
		if err != nil {
			if ctx.Err() != nil {
				return steward.Exit{}, ctx.Err()
			}
			return steward.Exit{}, fmt.Errorf("%w: %w", ErrAway, err)
		}
		switch k {
		case steward.Output, steward.Errors:
			if _, err := w.Write(p); err != nil {
				return steward.Exit{}, err
			}
		case steward.Ended:
			return ExitOf(p)
		}
	}
}
