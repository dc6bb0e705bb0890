package sim

import (
	"bufio"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"yardbench/internal/steward"
)

// desk is what somebody has done in a workspace folder: it is with the volume.
type desk struct {
	Uncommitted []string `json:"uncommitted,omitempty"`
	Unpushed    []string `json:"unpushed,omitempty"`
	Stashes     int      `json:"stashes,omitempty"`
}

// worked does what commands would do to a folder and its ports: touch, rm, git
// commit, stash and push, and listen and hush, which stand for a program that
// listens on a port.
func (s *stewardOf) worked(argv []string) {
	script := strings.Join(argv, " ")
	if len(argv) >= 3 && strings.HasPrefix(argv[1], "-") {
		script = argv[2]
	}
	for _, part := range strings.FieldsFunc(strings.ReplaceAll(script, "&&", ";"), func(r rune) bool { return r == '\n' || r == ';' }) {
		w := strings.Fields(part)
		if len(w) < 2 {
			continue
		}
		arg := strings.Trim(strings.Join(w[1:], " "), `'"`)
		switch w[0] {
		case "touch", "rm", "git":
			s.yard.mu.Lock()
			if d := s.yard.deskOf(s.id, s.number); d != nil && d.does(w[0], arg) {
				_ = s.yard.keep(s.id) // it was done, whether that can be written or not
			}
			s.yard.mu.Unlock()
		case "listen", "hush":
			if port, err := strconv.Atoi(arg); err == nil && port > 0 && port < 65536 {
				s.mu.Lock()
				s.ports = slices.DeleteFunc(s.ports, func(p steward.Port) bool { return p.Number == port })
				if w[0] == "listen" && len(s.ports) < 200 {
					s.ports = append(s.ports, steward.Port{Number: port, Process: "simulated"})
				}
				s.mu.Unlock()
				s.tell()
			}
		}
	}
}

// deskOf is the desk of a body's volume; y.mu is held.
func (y *ground) deskOf(id string, n int) *desk {
	w := y.has[id]
	if w == nil || w.Bodies[n] == nil {
		return nil
	}
	volume := w.Bodies[n].Spec.Volume
	if w.Desks == nil {
		w.Desks = map[int]*desk{}
	}
	if w.Desks[volume] == nil {
		w.Desks[volume] = &desk{}
	}
	return w.Desks[volume]
}

// does tells whether a command changes anything.
func (d *desk) does(command, arg string) bool {
	verb, rest, _ := strings.Cut(arg, " ")
	switch {
	case command == "touch" && !slices.Contains(d.Uncommitted, arg) && len(d.Uncommitted) < 100:
		d.Uncommitted = append(d.Uncommitted, arg)
	case command == "rm" && slices.Contains(d.Uncommitted, arg):
		d.Uncommitted = slices.DeleteFunc(d.Uncommitted, func(f string) bool { return f == arg })
	case command == "git" && verb == "commit" && len(d.Uncommitted) > 0 && len(d.Unpushed) < 100:
		d.Unpushed, d.Uncommitted = append(d.Unpushed, strings.TrimSpace("simulated "+rest)), nil
	case command == "git" && verb == "stash" && len(d.Uncommitted) > 0:
		d.Stashes, d.Uncommitted = d.Stashes+1, nil
	case command == "git" && verb == "push" && len(d.Unpushed) > 0:
		d.Unpushed = nil
	default:
		return false
	}
	return true
}

// report is what of a body's work exists nowhere else.
func (s *stewardOf) report() steward.WorkReport {
	s.yard.mu.Lock()
	defer s.yard.mu.Unlock()
	d := s.yard.deskOf(s.id, s.number)
	if d == nil {
		return steward.WorkReport{}
	}
	return steward.WorkReport{Uncommitted: slices.Clone(d.Uncommitted), Unpushed: slices.Clone(d.Unpushed), Stashes: d.Stashes}
}

// listens tells whether a port was said to be listened on.
func (s *stewardOf) listens(port int) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.ContainsFunc(s.ports, func(p steward.Port) bool { return p.Number == port })
}

// answer is what comes from such a port: one page for whoever asks by HTTP.
func answer(c *steward.Conn, port int) {
	r, err := http.ReadRequest(bufio.NewReader(c.Stream))
	if err != nil {
		return
	}
	body := fmt.Sprintf("This port is simulated: %s %s came to %d.\n", r.Method, r.URL.Path, port)
	fmt.Fprintf(c.Stream, "HTTP/1.1 200 OK\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s", len(body), body)
}
