package test

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"yardbench/wire"
)

// The service's own disk is full: what is asked for is refused with that
// cause, everybody is told, and it goes on once there is room.
func TestServicesDiskIsFull(t *testing.T) {
	w, disk := worldOnDisk(t)
	w.startSim(1, 0)
	t.Cleanup(w.kill)
	c := w.client("ingrid")
	w.must(w.as("ingrid", "", "launch", "tide-board"), 0, "is ready")
	fill := func(name string, leave uint64) {
		t.Helper()
		var s syscall.Statfs_t
		if err := syscall.Statfs(disk.at, &s); err != nil {
			t.Fatal(err)
		}
		disk.command("fallocate", "-l", strconv.FormatUint(s.Bavail*uint64(s.Bsize)-leave, 10), filepath.Join(disk.at, name))
	}
	said := func(status, kind string) {
		t.Helper()
		if h, err := c.Health(t.Context()); err != nil || h.Status != status || h.Troubles[0].Kind != kind {
			t.Errorf("it says of itself %+v, %v", h, err)
		}
	}
	fill("some", 40<<20) // of 512 MiB
	said("warned", "disk filling")
	if status, _ := w.fetched(w.address + "/ready"); status != 200 {
		t.Errorf("while nobody feels it, it is not ready: %d", status)
	}
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "second"), 0, "is ready")
	w.must(w.as("astrid", "", "doctor"), 0, "the service's disk has", "make room before")
	fill("more", 8<<20)
	said("troubled", "disk nearly full")
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "third"), 8, "nearly full", "use what you have")
	w.must(w.as("ingrid", "", "list"), 0, "nothing new is launched", "second")
	w.must(w.as("ingrid", "", "stop", "second"), 0)
	w.must(w.as("ingrid", "", "start", "second"), 0, "is ready")
	big := filepath.Join(disk.at, "big")
	_ = exec.Command("dd", "if=/dev/zero", "of="+big, "bs=64k").Run() // ends when there is no room
	var p *wire.Problem
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		_, err := c.Self.MakeToken(t.Context(), wire.NewToken{Name: "probe"})
		if errors.As(err, &p) {
			break
		}
	}
	if p == nil || p.Status != 507 || !strings.Contains(p.Detail, "disk is full") {
		t.Fatalf("with a full disk one is answered %+v", p)
	}
	said("troubled", "disk full")
	w.must(w.as("ingrid", "", "list"), 0, "disk is full", "tide-board")
	for _, name := range []string{"big", "some", "more"} {
		if err := os.Remove(filepath.Join(disk.at, name)); err != nil {
			t.Fatal(err)
		}
	}
	w.must(w.as("ingrid", "", "launch", "fare-desk"), 0, "is ready")
	if h, err := c.Health(t.Context()); err != nil || h.Status != "ok" {
		t.Errorf("with room again it says %+v, %v", h, err)
	}
}

// An engine that is restarted: that it is away is seen and told, what ended
// with it says so, and a start mends it.
func TestTheEngineRestarts(t *testing.T) {
	needEngine(t)
	dir, err := os.MkdirTemp("", "ybe-")
	if err != nil {
		t.Fatal(err)
	}
	tool := func(verb string) string {
		t.Helper()
		cmd := exec.Command("../tools/engine", verb, dir)
		cmd.Stderr = os.Stderr
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("the engine %s: %v", verb, err)
		}
		return strings.TrimSpace(string(out))
	}
	host := tool("up")
	t.Cleanup(func() { tool("wipe"); os.RemoveAll(dir) })
	tar, err := exec.Command("../tools/base-image").Output()
	if err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command(os.Getenv("YARDBENCH_TEST_BINARY"), "demo", "base-image", "--engine", host, "--tar", strings.TrimSpace(string(tar))).CombinedOutput(); err != nil {
		t.Fatalf("the base image: %v: %s", err, out)
	}
	w := newWorldOn(t, host)
	w.must(w.as("ingrid", "", "launch", "berth-planner"), 0, "is ready")
	c, ctx := w.client("ingrid"), context.Background()
	health := func(status string) (h wire.Health) {
		t.Helper()
		for end := time.Now().Add(slack * 20 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
			if h, err = c.Health(ctx); err == nil && h.Status == status {
				return h
			}
		}
		t.Fatalf("it does not become %s: %+v, %v", status, h, err)
		return h
	}
	tool("down")
	began := time.Now()
	if h := health("troubled"); h.Troubles[0].Kind != "yard away" || time.Since(began) > slack*2*time.Second {
		t.Errorf("after %s it says %+v", time.Since(began), h)
	}
	w.must(w.as("ingrid", "", "list"), 0, "the yard does not answer", "berth-planner")
	if status, text := w.fetched(w.address + "/ready"); status != 503 || !strings.Contains(text, "yard away") {
		t.Errorf("it is ready: %d %s", status, text)
	}
	tool("up")
	began = time.Now()
	health("ok")
	ws := w.until(c, "berth-planner", 20*time.Second, inPhase("stopped"))
	if took := time.Since(began); took > slack*2*time.Second || !strings.Contains(ws.Cause, "the yard") {
		t.Errorf("after %s it is stopped: %q", took, ws.Cause)
	}
	w.must(w.as("astrid", "", "journal", "list", "--kind", "yard."), 0, "yard.away", "yard.back")
	w.must(w.as("ingrid", "", "start", "berth-planner"), 0, "is ready")
}
