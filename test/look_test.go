package test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	yb "yardbench/client"
	"yardbench/wire"
)

// watcher is somebody at a terminal.
type watcher struct {
	t    *testing.T
	s    *yb.Session
	mu   sync.Mutex
	out  strings.Builder
	here string // who is there
	over error
	done chan struct{}
}

func watch(t *testing.T, c *yb.Client, ref string, in wire.Run) *watcher {
	t.Helper()
	s, err := c.Workspaces.Open(t.Context(), ref, in)
	if err != nil {
		t.Fatal(err)
	}
	w := &watcher{t: t, s: s, done: make(chan struct{})}
	t.Cleanup(func() { s.Close() })
	go func() {
		defer close(w.done)
		for {
			kind, p, err := s.Receive()
			w.mu.Lock()
			switch {
			case err != nil:
				w.over = err
			case kind == 'o':
				w.out.Write(p)
			case kind == 'w':
				var l wire.Lookers
				if err := json.Unmarshal(p, &l); err == nil {
					w.here = ""
					for _, x := range l.Lookers {
						w.here += fmt.Sprint(x.Person, " ", x.Writes, ";")
					}
				}
			}
			w.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	return w
}

func (w *watcher) until(what string, is func(out, here string) bool) {
	w.t.Helper()
	for end := time.Now().Add(slack * 5 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		w.mu.Lock()
		ok, out, here := is(w.out.String(), w.here), w.out.String(), w.here
		w.mu.Unlock()
		if ok {
			return
		}
		if time.Now().After(end) {
			w.t.Fatalf("%s: it shows %q, and there are %s", what, out, here)
		}
	}
}

func (w *watcher) types(text string) {
	w.t.Helper()
	if err := w.s.Send('i', []byte(text)); err != nil {
		w.t.Fatal(err)
	}
}

// A colleague looks at a terminal as its owner lets them, or types in it; everybody
// sees who is there, and it ends when it is taken away.
func TestLookAlong(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	ingrid, runa := w.client("ingrid"), w.client("runa")
	mine := watch(t, ingrid, "quay", wire.Run{Columns: 91, Rows: 33})
	mine.types("stty -echo; echo ready-$((1+1)); stty size\n")
	mine.until("a shell", func(out, here string) bool { return strings.Contains(out, "33 91") && here == "ingrid true;" })

	refused := func(c *yb.Client, ref string, in wire.Run) string {
		s, err := c.Workspaces.Open(t.Context(), ref, in)
		if err != nil {
			return problem(err)
		}
		defer s.Close()
		for {
			kind, _, err := s.Receive()
			if err != nil {
				return problem(err)
			}
			if kind == 'o' {
				return ""
			}
		}
	}
	if got := refused(runa, "quay.ingrid", wire.Run{}); got != "forbidden" {
		t.Errorf("before she may it is %q", got)
	}
	if got := refused(w.client("mats"), "quay.ingrid", wire.Run{}); got != "not-found" {
		t.Errorf("to who sees nothing of it it is %q", got)
	}
	w.must(w.as("ingrid", "", "look", "add", "quay", "runa", "--for", "10m"), 0, "runa may look at it until", "yardbench enter quay.ingrid --terminal main")
	w.must(w.as("ingrid", "", "look", "add", "quay", "nobody"), 3, "nobody")
	w.must(w.as("runa", "", "look", "list"), 0, "quay.ingrid", "look")
	hers := watch(t, runa, "quay.ingrid", wire.Run{Columns: 20, Rows: 5, Wake: true})
	hers.until("what was shown", func(out, here string) bool {
		return strings.Contains(out, "ready-2") && strings.Contains(here, "runa false")
	})
	mine.until("that she is there", func(_, here string) bool { return here == "ingrid true;runa false;" })
	hers.types("echo from-$((3+4))\n")
	if err := hers.s.Send('r', []byte(`{"columns":20,"rows":5}`)); err != nil {
		t.Fatal(err)
	}
	mine.types("stty size; echo on-$((4+5))\n")
	hers.until("what goes on", func(out, _ string) bool { return strings.Contains(out, "on-9") })
	hers.mu.Lock()
	if out := hers.out.String(); strings.Contains(out, "from-7") || strings.Contains(out, "5 20") {
		t.Errorf("who looks has typed, or given it a size: %q", out)
	}
	hers.mu.Unlock()
	if got := refused(runa, "quay.ingrid", wire.Run{Terminal: "other"}); got != "forbidden" {
		t.Errorf("another terminal is %q", got)
	}
	if got := refused(runa, "quay.ingrid", wire.Run{Argv: []string{"id"}}); got != "forbidden" {
		t.Errorf("a command is %q", got)
	}
	if got := problem(second(runa.Files.Show(t.Context(), "quay.ingrid", "", false))); got != "forbidden" {
		t.Errorf("its files are %q", got)
	}
	w.must(w.as("ingrid", "", "terminal", "list", "quay"), 0, "main", "sh", "ingrid, runa (looks)")

	// Each new terminal runs a line first, in its shell.
	w.must(w.as("ingrid", "", "terminal", "begin", "quay", "export TIDE=high-$((2+3))"), 0, "export TIDE")
	w.must(w.as("ingrid", "", "terminal", "begin", "quay", "a\nb"), 4, "one line")
	fresh := watch(t, ingrid, "quay", wire.Run{Terminal: "second", Columns: 80, Rows: 24})
	fresh.types("echo it-is-$TIDE\n")
	fresh.until("what it ran first", func(out, _ string) bool { return strings.Contains(out, "it-is-high-5") })
	line := watch(t, ingrid, "quay", wire.Run{Argv: []string{"sh", "-c", "sleep 1; echo over-$((4+4))"}, TTY: true, Terminal: "third", Columns: 80, Rows: 24})
	line.until("a command's end", func(out, _ string) bool { return strings.Contains(out, "over-8") })
	over := w.shellOf(t, "ingrid").run("", "ssh", "-tt", "quay.bench", "sleep 1; echo over-$((4+4))")
	line.mu.Lock()
	if both := line.out.String() + over.out; strings.Contains(both, "TIDE") || strings.Count(both, "over-8") != 2 {
		t.Errorf("a command is typed into: %q", both)
	}
	line.mu.Unlock()

	// With leave to type she does, from the next time on; what she had ends.
	w.must(w.as("ingrid", "", "look", "add", "quay", "runa", "--write"), 0, "and type")
	ended := func(x *watcher, within time.Duration) {
		t.Helper()
		select {
		case <-x.done:
		case <-time.After(slack * within):
			t.Fatal("it goes on")
		}
		var p *wire.Problem
		if !errors.As(x.over, &p) || p.Type != wire.ProblemPrefix+"access-ended" {
			t.Errorf("it ends with %v", x.over)
		}
	}
	ended(hers, 2*time.Second)
	hers = watch(t, runa, "quay.ingrid", wire.Run{Columns: 20, Rows: 5})
	hers.types("echo from-$((3+4)); whoami; stty size\n")
	mine.until("what she types", func(out, _ string) bool { return strings.Contains(out, "from-7\r\ncrew\r\n33 91") })
	if err := ingrid.Workspaces.EndLook(t.Context(), "quay", "main", "runa"); err != nil {
		t.Fatal(err)
	}
	ended(hers, 2*time.Second)
	mine.until("that she is gone", func(_, here string) bool { return here == "ingrid true;" })
	if got := refused(runa, "quay.ingrid", wire.Run{}); got != "forbidden" {
		t.Errorf("after it was taken away it is %q", got)
	}
	if got := problem(ingrid.Workspaces.EndLook(context.Background(), "quay", "main", "runa")); got != "not-found" {
		t.Errorf("taken away twice it is %q", got)
	}
	w.must(w.as("ingrid", "", "journal", "list", "--json"), 0, "workspace.look-allowed", "workspace.look-ended", `"workspace.look"`)
}
