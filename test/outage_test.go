package test

import (
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"yardbench/wire"
)

// gate is a way to an engine that can be shut.
type gate struct {
	t          *testing.T
	at, behind string

	mu    sync.Mutex
	in    net.Listener
	conns []net.Conn
}

func (g *gate) open() {
	g.t.Helper()
	in, err := net.Listen("unix", g.at)
	if err != nil {
		g.t.Fatal(err)
	}
	g.mu.Lock()
	g.in = in
	g.mu.Unlock()
	go func() {
		for {
			c, err := in.Accept()
			if err != nil {
				return
			}
			d, err := net.Dial("unix", g.behind)
			if err != nil {
				c.Close()
				continue
			}
			g.mu.Lock()
			g.conns = append(g.conns, c, d)
			g.mu.Unlock()
			for _, way := range [][2]net.Conn{{c, d}, {d, c}} {
				go func() {
					_, _ = io.Copy(way[1], way[0]) // ends with either
					if half, ok := way[1].(*net.UnixConn); ok {
						_ = half.CloseWrite()
					}
				}()
			}
		}
	}()
}

func (g *gate) shut() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.in.Close()
	for _, c := range g.conns {
		c.Close()
	}
	g.conns = nil
}

// An outage of the yard makes no workspace fail: what lives is used on, what is asked
// for is kept, told, and done when the yard is back.
func TestAnOutageMakesNothingFail(t *testing.T) {
	needEngine(t)
	t.Parallel()
	dir, err := os.MkdirTemp("", "ybg-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	g := &gate{t: t, at: filepath.Join(dir, "e.sock"), behind: strings.TrimPrefix(os.Getenv("YARDBENCH_TEST_ENGINE"), "unix://")}
	g.open()
	t.Cleanup(g.shut)
	w := newWorldOn(t, "unix://"+g.at)
	w.must(w.as("ingrid", "", "launch", "deck-log", "--name", "quay"), 0, "is ready")
	w.must(w.as("ingrid", "", "launch", "deck-log", "--name", "pier"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "pier", "--", "sh", "-c", "echo kept > only-here"), 0)
	c := w.client("ingrid")
	g.shut()
	w.must(w.as("ingrid", "", "run", "quay", "--", "echo", "goes on"), 0, "goes on")
	w.must(w.as("ingrid", "", "stop", "pier", "--no-wait"), 0)
	w.must(w.as("mats", "", "launch", "deck-log", "--name", "mole", "--no-wait"), 0)
	waits := func(ws wire.Workspace) bool {
		for _, x := range ws.Conditions {
			if x.Kind == "waits for the yard" && strings.Contains(x.Reason, "does not answer") {
				return true
			}
		}
		return false
	}
	w.until(c, "pier", 40*time.Second, waits)
	w.until(w.client("mats"), "mole", 40*time.Second, waits)
	w.must(w.as("ingrid", "", "run", "quay", "--", "echo", "and on"), 0, "and on")
	g.open()
	w.until(c, "pier", 40*time.Second, inPhase("stopped"))
	if ws := w.until(w.client("mats"), "mole", 60*time.Second, inPhase("ready")); waits(ws) {
		t.Errorf("it waits still: %+v", ws.Conditions)
	}
	w.must(w.as("ingrid", "", "start", "pier"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "pier", "--", "cat", "only-here"), 0, "kept")
	if out := w.must(w.as("astrid", "", "journal", "list", "--kind", "workspace.phase"), 0, "stopped"); strings.Contains(out, "failed") {
		t.Errorf("something failed:\n%s", out)
	}
}

// What is run without a terminal ends with the service, which says so; nothing else does.
func TestARunAsTheServiceEnds(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "deck-log", "--name", "quay"), 0, "is ready")
	run := w.command("ingrid", "", "run", "quay", "--", "sh", "-c", "echo begun; exec sleep 60")
	var said syncBuffer
	run.Stdout, run.Stderr = &said, &said
	if err := run.Start(); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(slack * 10 * time.Second); !strings.Contains(said.String(), "begun") && time.Now().Before(end); {
		time.Sleep(20 * time.Millisecond)
	}
	if err := w.service.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := w.service.Wait(); err != nil {
		t.Errorf("the service ends with %v", err)
	}
	_ = run.Wait() // its exit code says it
	if code := run.ProcessState.ExitCode(); code != 255 || !strings.Contains(said.String(), "the service was told to end") || !strings.Contains(said.String(), "in a terminal it would go on") {
		t.Errorf("it ends with %d and says %q", code, said.String())
	}
	if log := w.output.String(); !strings.Contains(log, `msg="the service has started"`) || !strings.Contains(log, `msg="the service stops`) || !strings.Contains(log, `msg="the service has stopped"`) {
		t.Errorf("its log is\n%s", log)
	}
	w.start()
	w.must(w.as("ingrid", "", "run", "quay", "--", "echo", "goes on"), 0, "goes on")
	w.must(w.as("astrid", "", "journal", "list", "--kind", "service."), 0, "service.started", "service.stopped")
	// Whoever leaves is told of with what runs on, and that is stopped where it is wanted.
	w.must(w.as("astrid", "", "person", "close", "ingrid", "--yes"), 0, "may not sign in", "of theirs there runs", "quay.ingrid", "yardbench stop --where all,owner=ingrid")
	w.must(w.as("astrid", "", "person", "open", "ingrid"), 0)
	w.must(w.as("astrid", "", "person", "close", "ingrid", "--stop", "--yes"), 0, "what runs of theirs is stopped")
	w.until(w.client("astrid"), "quay.ingrid", 20*time.Second, inPhase("stopped"))
	if out := w.must(w.as("astrid", "", "person", "close", "ingrid", "--yes"), 0); strings.Contains(out, "runs") {
		t.Errorf("of what is stopped it says %q", out)
	}
	w.must(w.as("astrid", "", "person", "open", "ingrid"), 0)
}
