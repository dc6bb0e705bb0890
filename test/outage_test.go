package test

import (
	"crypto/sha256"
	"fmt"
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

// What is run without a terminal goes on as the service ends and starts again, or is killed:
// its input, its output and its exit code are whole. It ends where whoever asked for it ends.
func TestARunAsTheServiceEnds(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "deck-log", "--name", "quay"), 0, "is ready")
	begin := func(stdin string, script string) (commandLine, *syncBuffer, *syncBuffer) {
		t.Helper()
		run := w.command("ingrid", stdin, "run", "quay", "--", "sh", "-c", script)
		out, errs := &syncBuffer{}, &syncBuffer{}
		run.Stdout, run.Stderr = out, errs
		if err := run.Start(); err != nil {
			t.Fatal(err)
		}
		return run, out, errs
	}
	says := func(b *syncBuffer, what string) {
		t.Helper()
		for end := time.Now().Add(slack * 10 * time.Second); !strings.Contains(b.String(), what); time.Sleep(20 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("it does not say %q: %q", what, b)
			}
		}
	}
	input := strings.Repeat("what the tide brings in, the tide takes out\n", 100_000) // 4.4 MB
	count, counted, _ := begin(input, "sleep 1; sha256sum; exit 3")
	run, out, errs := begin("", "i=0; while [ $i -lt 60 ]; do echo line $i; echo aside $i >&2; i=$((i+1)); sleep 0.1; done; exit 7")
	says(out, "line 5")
	if err := w.service.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := w.service.Wait(); err != nil {
		t.Errorf("the service ends with %v", err)
	}
	if log := w.output.String(); !strings.Contains(log, `msg="the service has started"`) || !strings.Contains(log, `msg="the service stops`) || !strings.Contains(log, `msg="the service has stopped"`) {
		t.Errorf("its log is\n%s", log)
	}
	w.start()
	says(out, "line 30\n")
	w.kill()
	w.start()
	_ = run.Wait() // its exit code says it
	var lines, asides strings.Builder
	for i := range 60 {
		fmt.Fprintln(&lines, "line", i)
		fmt.Fprintln(&asides, "aside", i)
	}
	told := strings.ReplaceAll(errs.String(), "yardbench: the connection is lost; what runs goes on for 90 seconds, and it is being connected again\n", "")
	if code := run.ProcessState.ExitCode(); code != 7 || out.String() != lines.String() || told != asides.String() {
		t.Errorf("it ends with %d and says\n%s\nand beside that\n%s", code, out, errs)
	}
	_ = count.Wait()
	if code := count.ProcessState.ExitCode(); code != 3 || !strings.HasPrefix(counted.String(), fmt.Sprintf("%x", sha256.Sum256([]byte(input)))) {
		t.Errorf("what took its input ends with %d and says %q", code, counted)
	}
	left, leaving, _ := begin("", "echo begun; trap 'touch ended; exit' HUP TERM; while :; do sleep 0.1; done")
	says(leaving, "begun")
	if err := left.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	_ = left.Wait()
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "i=0; until [ -e ended ]; do i=$((i+1)); [ $i -lt 200 ] || exit 1; sleep 0.1; done"), 0)
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
