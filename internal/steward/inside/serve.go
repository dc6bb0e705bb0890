package inside

import (
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/hashicorp/yamux"

	"yardbench/internal/steward"
)

// places are where things are in the container.
type places struct {
	binary    string // the steward itself: git calls it for credentials
	linkDir   string // read-only: the service's socket and our token
	runDir    string // on tmpfs: the helper's socket, set-up logs
	recordDir string // in the container's own layer: set-up records, no values
}

var container = places{binary: "/.yardbench/bin/steward", linkDir: "/.yardbench/link", runDir: "/run/yardbench", recordDir: "/var/lib/yardbench-steward"}

// stopGrace is what sessions get between being asked to end and being ended.
const stopGrace = 5 * time.Second

// server is the serving steward.
type server struct {
	places
	mu         sync.Mutex
	session    *yamux.Session // nil while the service is away
	terminals  map[string]*terminal
	setUps     map[string]*setUp
	lasting    lastings
	procs      map[int]holder // leaders of process groups that run
	signs      signs
	scrollRoom atomic.Int64      // what is free for the scrollback of terminals
	gitProxy   string            // the address of the proxy for git
	files      sync.Mutex        // guards the secrets that are files
	made       map[string]bool   // the sockets of users that are made; guarded by files
	links      map[string]string // from places in the home folder to them
	probes     probes            // what users' shells say of their environment
	tree       sync.Mutex        // guards the tree while it is made or kept: one who was cut off may still be at it
}

// Serve connects to the service, again and again, and does what it asks.
func Serve() int {
	s, err := newServer(container)
	if err != nil {
		slog.Error("the steward cannot begin", "error", err)
		return 1
	}
	stop := make(chan os.Signal, 1)
	signal.Notify(stop, syscall.SIGTERM, syscall.SIGINT)
	go s.connect()
	<-stop
	s.endAll()
	return 0
}

func newServer(p places) (*server, error) {
	s, err := prepareServer(p)
	if err != nil {
		return nil, err
	}
	return s, s.listen()
}

// prepareServer is a server without ways to the outside for git.
func prepareServer(p places) (*server, error) {
	s := &server{places: p, terminals: map[string]*terminal{}, setUps: map[string]*setUp{}, procs: map[int]holder{}}
	s.lasting = lastings{server: s, alone: partedMost, all: map[string]*lasting{}}
	s.scrollRoom.Store(scrollbackRoom)
	if err := os.MkdirAll(filepath.Join(p.runDir, "set-up"), 0o700); err != nil {
		return nil, err
	}
	// The person's processes reach the helper's socket through it.
	return s, os.Chmod(p.runDir, 0o755)
}

// connect keeps one connection to the service.
func (s *server) connect() {
	wait, told := 20*time.Millisecond, false
	for {
		began := time.Now()
		err := s.once()
		if time.Since(began) > time.Second {
			wait, told = 20*time.Millisecond, false
		}
		if err != nil && !told {
			slog.Info("the service is away; dialling again until it is back", "error", err)
			told = true
		}
		time.Sleep(wait)
		wait = min(wait*2, 2*time.Second)
	}
}

func (s *server) once() error {
	token, err := os.ReadFile(filepath.Join(s.linkDir, "token"))
	if err != nil {
		return err
	}
	conn, err := net.DialTimeout("unix", filepath.Join(s.linkDir, "steward.sock"), 5*time.Second)
	if err != nil {
		return err
	}
	return s.over(conn, strings.TrimSpace(string(token)))
}

// over serves the service over a connection, until that ends.
func (s *server) over(conn net.Conn, token string) error {
	defer conn.Close()
	session, err := yamux.Server(conn, steward.Multiplex())
	if err != nil {
		return err
	}
	defer session.Close()
	stream, err := session.OpenStream()
	if err != nil {
		return err
	}
	hello := &steward.Conn{Stream: stream}
	if err := hello.Send(steward.Hello{Versions: steward.Versions, Token: token, Arch: runtime.GOARCH}); err != nil {
		return err
	}
	var w steward.Welcome
	if err := hello.Receive(&w); err != nil {
		return err
	}
	if w.Refusal != "" {
		return fmt.Errorf("the service refuses: %s", w.Refusal)
	}
	stream.Close()
	s.mu.Lock()
	s.session = session
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		if s.session == session {
			s.session = nil
		}
		s.mu.Unlock()
	}()
	for {
		stream, err := session.AcceptStream()
		if err != nil {
			return err
		}
		go s.serve(&steward.Conn{Stream: stream})
	}
}

// serve does what one stream asks.
func (s *server) serve(c *steward.Conn) {
	defer c.Stream.Close()
	var r steward.Request
	if err := c.Receive(&r); err != nil {
		return
	}
	refuse := func(err error) { _ = c.Send(steward.Reply{Problem: err.Error()}) } // a stream that broke has no reader
	switch r.Kind {
	case steward.Terminal:
		t, err := s.terminal(r)
		if err != nil {
			refuse(err)
			return
		}
		t.attach(c, r)
	case steward.Listed:
		if c.Send(steward.Reply{}) == nil {
			_ = c.Send(s.listed())
		}
	case steward.Run:
		typed, read := &s.signs.typed, &s.signs.read
		if r.Process.Quiet { // it is no sign of work
			typed, read = new(sign), new(sign)
		}
		if r.Typist != "" && r.ID != "" && (r.Life != "" || s.lasting.hasRoom()) {
			s.lasting.last(c, r, typed, read)
			return
		}
		if c.Send(steward.Reply{}) != nil {
			return
		}
		p, err := s.prepare(r.Process)
		if err != nil { // told as a shell does
			_ = c.SendJSON(steward.Ended, steward.Exit{Code: 127, Problem: err.Error()})
			return
		}
		s.run(c, p, r.Process.Secrets, typed, read)
	case steward.PutFiles:
		a, err := lookup(r.Process.User)
		if err == nil {
			err = s.putFiles(a, r.Process.Files, r.Process.FileWays)
		}
		if err != nil {
			refuse(err)
			return
		}
		_ = c.Send(steward.Reply{})
	case steward.SetUp:
		u, err := s.setUp(r)
		if err != nil {
			refuse(err)
			return
		}
		if c.Send(steward.Reply{}) == nil {
			u.follow(c)
		}
	case steward.CloneTo:
		if c.Send(steward.Reply{}) == nil {
			_ = c.SendJSON(steward.Ended, trees{s}.clone(r, c.Writer(steward.Output)))
		}
	case steward.Keep:
		if c.Send(steward.Reply{}) == nil {
			_ = c.SendJSON(steward.Ended, trees{s}.keep(r))
		}
	case steward.Watch:
		if c.Send(steward.Reply{}) == nil {
			s.watch(c, r)
		}
	case steward.Dial:
		if r.Datagrams {
			s.datagrams(c, r.Service, r.Port)
			return
		}
		s.dial(c, r.Service, r.Port)
	case steward.Notice:
		s.notice(r.Text)
		_ = c.Send(steward.Reply{})
	case steward.EndLeft:
		if c.Send(steward.Reply{}) == nil {
			_ = c.Send(lefts{s}.end(r.ID))
		}
	case steward.Work:
		_ = c.Send(steward.Reply{})
		_ = c.Send(trees{s}.work(r.Process))
	default:
		refuse(fmt.Errorf("this steward does not know %q", r.Kind))
	}
}

// open opens a stream to the service.
func (s *server) open(r steward.Request) (*steward.Conn, error) {
	s.mu.Lock()
	session := s.session
	s.mu.Unlock()
	if session == nil {
		return nil, fmt.Errorf("the service is away; try again in a moment")
	}
	stream, err := session.OpenStream()
	if err != nil {
		return nil, err
	}
	c := &steward.Conn{Stream: stream}
	var reply steward.Reply
	err = c.Send(r)
	if err == nil {
		err = c.Receive(&reply)
	}
	if err == nil && reply.Problem != "" {
		err = fmt.Errorf("%s", reply.Problem)
	}
	if err != nil {
		stream.Close()
		return nil, err
	}
	return c, nil
}

// listen opens the proxy for git on loopback. It leads to the service, and that
// decides.
func (s *server) listen() error {
	proxy, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	s.gitProxy = "http://" + proxy.Addr().String()
	go accept(proxy, func(conn net.Conn) {
		c, err := s.open(steward.Request{Kind: steward.Git})
		if err != nil {
			fmt.Fprintf(conn, "HTTP/1.1 503 Service Unavailable\r\nConnection: close\r\nContent-Type: text/plain\r\n\r\n%s\n", err)
			return
		}
		defer c.Stream.Close()
		both(conn, c.Stream)
	})
	return nil
}

func accept(l net.Listener, handle func(net.Conn)) {
	limit := make(chan struct{}, 64) // more at once is nobody's git
	for {
		conn, err := l.Accept()
		if err != nil {
			time.Sleep(100 * time.Millisecond)
			continue
		}
		limit <- struct{}{}
		go func() {
			defer func() { conn.Close(); <-limit }()
			handle(conn)
		}()
	}
}

// both copies between two connections until one ends.
func both(a, b io.ReadWriteCloser) {
	over := make(chan struct{}, 2)
	for _, d := range [][2]io.ReadWriteCloser{{a, b}, {b, a}} {
		go func() {
			_, _ = io.Copy(d[0], d[1]) // the end of either is the end of both
			over <- struct{}{}
		}()
	}
	<-over
}

// endAll asks every session to end, then ends it.
func (s *server) endAll() {
	each := func(sig syscall.Signal) (n int) {
		s.mu.Lock()
		defer s.mu.Unlock()
		for pid := range s.procs {
			_ = syscall.Kill(-pid, sig)
			n++
		}
		return n
	}
	each(syscall.SIGTERM)
	each(syscall.SIGHUP)
	for end := time.Now().Add(stopGrace); time.Now().Before(end) && each(0) > 0; {
		time.Sleep(20 * time.Millisecond)
	}
	each(syscall.SIGKILL)
}
