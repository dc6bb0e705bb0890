package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yardbench/wire"
)

// A second service on a copy of the records, beside the living one or in its
// place, never takes anything of the yard away.
func TestASecondServiceOnACopyOfTheRecords(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	ctx := t.Context()
	c := w.client("ingrid")
	launch := func(name string) {
		t.Helper()
		if _, err := c.Workspaces.Launch(ctx, wire.Launch{Repository: "deck-log", Name: name}); err != nil {
			t.Fatal(err)
		}
		w.until(c, name, 60*time.Second, inPhase("ready"))
	}
	launch("before")
	copied := filepath.Join(w.dir, "copy")
	if err := os.CopyFS(filepath.Join(copied, "keys"), os.DirFS(filepath.Join(w.dir, "data", "keys"))); err != nil {
		t.Fatal(err)
	}
	db := openDatabase(t, filepath.Join(w.data(), "yardbench.db"))
	if _, err := db.Exec("VACUUM INTO ?", filepath.Join(copied, "yardbench.db")); err != nil {
		t.Fatal(err)
	}
	db.Close()
	launch("after") // the copy knows nothing of it
	has := w.leftovers(w.installation())

	second := func(more ...string) (string, error) {
		args := append([]string{"demo", "service", "--data", copied, "--listen", "127.0.0.1:0", "--ssh-listen", "", "--engine", w.engine, "--git-host", w.git}, more...)
		cmd := exec.CommandContext(ctx, os.Getenv("YARDBENCH_TEST_BINARY"), args...)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	out, err := second()
	if err == nil || !strings.Contains(out, "another service keeps this yard's workspaces") || !strings.Contains(out, "--take-over") || !strings.Contains(out, "with the same records, runs now") || !strings.Contains(out, filepath.Join(w.dir, "data")) {
		t.Fatalf("beside the living one it says %v:\n%s", err, out)
	}
	for _, name := range []string{"before", "after"} {
		if ws, err := c.Workspaces.Show(ctx, name); err != nil || ws.Phase != "ready" {
			t.Errorf("%s is %s, %v", name, ws.Phase, err)
		}
	}
	if now := w.leftovers(w.installation()); now != has {
		t.Errorf("the engine had\n%s\nand has\n%s", has, now)
	}

	// Told to take over it does, and the first one steps back by itself.
	data := filepath.Join(w.dir, "data")
	first, firstOutput := w.service, w.output
	ended := make(chan error, 1)
	go func() { ended <- first.Wait() }()
	if err := os.Rename(data, data+".first"); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(copied, data); err != nil {
		t.Fatal(err)
	}
	w.address, w.more = "", append([]string{"--take-over"}, bounds()...)
	w.start()
	select {
	case <-ended:
	case <-time.After(slack * 30 * time.Second):
		t.Fatalf("the first one goes on beside the second:\n%s", firstOutput)
	}
	if !strings.Contains(firstOutput.String(), "has taken over") {
		t.Errorf("the first one ended with\n%s", firstOutput)
	}
	c = w.client("ingrid")
	if ws, err := c.Workspaces.Show(ctx, "before"); err != nil || ws.Phase == "removed" {
		t.Errorf("what both know is %s, %v", ws.Phase, err)
	}
	if _, err := c.Workspaces.Show(ctx, "after"); err == nil {
		t.Error("the copy knows what came after it")
	}
	time.Sleep(2 * time.Second) // it looks through the yard at its start
	now := w.leftovers(w.installation())
	for _, line := range strings.Split(has, "\n") {
		if !strings.Contains(now, line) {
			t.Errorf("%s was taken away; there is\n%s", line, now)
		}
	}
	// Once an operator has looked, and says so, what nothing is known of goes; its
	// files stay for an operator to take away.
	w.kill()
	w.start()
	for end := time.Now().Add(slack * 10 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		now = w.leftovers(w.installation())
		if strings.Count(now, "container ") == 1 || time.Now().After(end) {
			break
		}
	}
	if strings.Count(now, "container ") != 1 || strings.Count(now, "volume ") != 2 {
		t.Errorf("after an operator has looked there is\n%s", now)
	}
	all, err := w.client("astrid").Quarantine.List(ctx)
	if err != nil || len(all) != 1 || all[0].Name != "after" || all[0].Runs {
		t.Fatalf("what no record knows is %+v, %v", all, err)
	}
	w.must(w.as("astrid", "", "quarantine", "remove", all[0].ID, "--yes"), 0, "it is gone")
}
