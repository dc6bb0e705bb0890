package inside

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"yardbench/internal/durable"
	"yardbench/internal/steward"
)

// maxSetUpLog bounds what is kept of one set-up command's output.
const maxSetUpLog = 64 << 20

// setUp is one set-up command. Its record is on disk before it starts, in the
// container's own layer; its log is on tmpfs, as it may hold what it was
// given. So: an unknown id starts, a known one attaches, a finished one
// answers with its result, and one that a container's end cut off is marked
// and not run again.
type setUp struct {
	mu   sync.Mutex
	cond *sync.Cond
	log  string
	size int64
	over bool
	exit steward.Exit

	begun   chan struct{} // closed once it has begun, or with problem set
	problem error
}

// record is what is kept of a set-up command.
type record struct {
	Over bool         `json:"over"`
	Exit steward.Exit `json:"exit"`
}

var setUpID = regexp.MustCompile(`^[A-Za-z0-9._-]{1,160}$`)

func (s *server) setUp(r steward.Request) (*setUp, error) {
	if !setUpID.MatchString(r.ID) {
		return nil, fmt.Errorf("%q is no set-up id", r.ID)
	}
	s.mu.Lock()
	if u := s.setUps[r.ID]; u != nil { // or is about to begin
		s.mu.Unlock()
		<-u.begun // bounded, as the asking of the shell is
		return u, u.problem
	}
	u := &setUp{log: filepath.Join(s.runDir, "set-up", r.ID+".log"), begun: make(chan struct{})}
	u.cond = sync.NewCond(&u.mu)
	s.setUps[r.ID] = u
	s.mu.Unlock()
	defer close(u.begun)
	again, err := s.begin(u, r)
	if u.problem = err; again || err != nil {
		s.mu.Lock()
		delete(s.setUps, r.ID)
		s.mu.Unlock()
	}
	return u, err
}

// begin begins a set-up command, or gives what became of it before. again tells
// that it may be asked for once more: nothing has run.
func (s *server) begin(u *setUp, r steward.Request) (again bool, err error) {
	path := filepath.Join(s.recordDir, r.ID+".json")
	content, err := os.ReadFile(path)
	switch {
	case err == nil:
		var rec record
		if json.Unmarshal(content, &rec) != nil || !rec.Over {
			rec.Exit = steward.Exit{Code: 130, Interrupted: true}
		}
		u.over, u.exit = true, rec.Exit
		return false, nil
	case !errors.Is(err, os.ErrNotExist):
		return false, err
	}
	cmd, err := s.prepare(r.Process)
	if err != nil {
		// It cannot run at all, and that is its result.
		u.over, u.exit = true, steward.Exit{Code: 127, Problem: err.Error()}
		return true, nil
	}
	if err := keep(path, record{}); err != nil {
		return false, fmt.Errorf("record the set-up command: %w", err)
	}
	log, err := os.OpenFile(u.log, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return false, err
	}
	from, to, err := os.Pipe()
	if err != nil {
		return false, errors.Join(err, log.Close())
	}
	cmd.Stdout, cmd.Stderr = to, to
	go func() {
		err := cmd.Start()
		to.Close()
		said := make(chan struct{})
		go func() { // as long as anything that it left in the background may print: without a reader that would end
			_, _ = io.Copy(&growing{u: u, file: log}, from)
			from.Close()
			close(said)
		}()
		if err == nil {
			letGo := s.track(cmd.Process.Pid, momentOf(r.ID), r.Process.Secrets)
			err = cmd.Wait()
			go lefts{s}.keep(cmd.Process.Pid, r.ID, letGo)
			select {
			case <-said:
			case <-time.After(leftPrints):
			}
		}
		exit := ended(err)
		_ = keep(path, record{Over: true, Exit: exit}) // a lost end reads as interrupted, which is safe
		u.mu.Lock()
		u.over, u.exit = true, exit
		u.cond.Broadcast()
		u.mu.Unlock()
		log.Close()
	}()
	return false, nil
}

// momentOf is the moment in a set-up command's id, SHEET.MOMENT.N.
func momentOf(id string) string {
	if parts := strings.Split(id, "."); len(parts) > 2 {
		return parts[1]
	}
	return "a set-up command"
}

// leftPrints is how long what a set-up command left in the background holds it up by what
// it prints: what comes later is in no log.
const leftPrints = 2 * time.Second

// keep writes a record so that it is whole and on disk.
func keep(path string, r record) error {
	body, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return durable.Write(path, body, 0o600)
}

// growing writes the log and wakes those who follow it.
type growing struct {
	u    *setUp
	file *os.File
}

func (g *growing) Write(p []byte) (int, error) {
	g.u.mu.Lock()
	defer g.u.mu.Unlock()
	if room := maxSetUpLog - g.u.size; room > 0 {
		n, err := g.file.Write(p[:min(int64(len(p)), room)])
		g.u.size += int64(n)
		if err != nil {
			return len(p), nil // a full tmpfs ends the log, not the command
		}
		g.u.cond.Broadcast()
	}
	return len(p), nil
}

// follow sends the log from its start, and the end when it comes.
func (u *setUp) follow(c *steward.Conn) {
	var sent int64
	file, err := os.Open(u.log)
	if err == nil {
		defer file.Close()
	}
	gone := make(chan struct{})
	go func() { // a reader that leaves must not keep us waiting for output
		_, _ = io.Copy(io.Discard, c.Stream)
		close(gone)
		u.mu.Lock()
		u.cond.Broadcast()
		u.mu.Unlock()
	}()
	buf := make([]byte, 64<<10)
	for {
		u.mu.Lock()
		for sent == u.size && !u.over && !closed(gone) {
			u.cond.Wait()
		}
		size, over, exit := u.size, u.over, u.exit
		u.mu.Unlock()
		if closed(gone) {
			return
		}
		for sent < size && file != nil {
			n, err := file.ReadAt(buf[:min(int64(len(buf)), size-sent)], sent)
			if n > 0 && c.SendFrame(steward.Output, buf[:n]) != nil {
				return
			}
			sent += int64(n)
			if err != nil {
				break
			}
		}
		if over {
			_ = c.SendJSON(steward.Ended, exit)
			return
		}
	}
}

func closed(c chan struct{}) bool {
	select {
	case <-c:
		return true
	default:
		return false
	}
}
