package test

import (
	"bufio"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	yb "yardbench/client"
	"yardbench/wire"
)

// An errand's output, exit code and files are those of its command, and nothing of
// it is left.
func TestErrand(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	here := t.TempDir()
	none := func(when string) {
		t.Helper()
		if all, err := w.client("astrid").Workspaces.List(t.Context(), yb.ListQuery{All: true}); err != nil || len(all) > 0 {
			t.Errorf("%s there are %+v, %v", when, all, err)
		}
	}
	out := w.as("ingrid", "from outside", "errand", "tide-board", "--bring", "report", "--bring", "Makefile", "--into", here, "--", "sh", "-c",
		"cat; mkdir -p report/a; echo high > report/a/level; chmod 700 report/a/level; ln -s /etc/passwd report/link; echo low >&2; exit 7")
	if out.code != 7 || out.out != "from outside" || !strings.Contains(out.errors, "low") {
		t.Errorf("it ended with %d, %q, %q", out.code, out.out, out.errors)
	}
	if text, err := os.ReadFile(filepath.Join(here, "report", "a", "level")); err != nil || string(text) != "high\n" {
		t.Errorf("it brought %q, %v", text, err)
	}
	if _, err := os.Lstat(filepath.Join(here, "report", "link")); err == nil {
		t.Error("it brought a link that leads elsewhere")
	}
	if i, err := os.Stat(filepath.Join(here, "Makefile")); err != nil || i.Size() == 0 {
		t.Errorf("it did not bring both: %v", err)
	}
	none("after it")
	// What is wrong ends it, and leaves nothing either.
	for _, c := range []struct {
		code int
		says string
		args []string
	}{
		{127, "", []string{"errand", "tide-board", "--", "no-such-program"}},
		{125, "there is no repository", []string{"errand", "nothing", "--", "true"}},
		{2, "name a command", []string{"errand", "tide-board"}},
		{2, "within the workspace folder", []string{"errand", "tide-board", "--bring", "../up", "--", "true"}},
		{255, "cannot be brought", []string{"errand", "tide-board", "--bring", "nothing", "--into", here, "--", "true"}},
	} {
		got := w.as("ingrid", "", c.args...)
		if got.code != c.code || !strings.Contains(got.errors, c.says) {
			t.Errorf("%v ended with %d: %s", c.args, got.code, got.errors)
		}
	}
	none("after what went wrong")
	// Many, within the limits: ingrid has room for three that run.
	lines := filepath.Join(here, "lines")
	if err := os.WriteFile(lines, []byte("# what is to be looked at\ntide-board 1\ntide-board@main 2\nnothing 3\ntide-board 4\ntide-board 5\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	got := w.as("ingrid", "", "errand", "--each", lines, "--at-once", "5", "--bring", "made", "--into", here, "--", "sh", "-c", `echo "of $0"; echo $0 > made; test $0 != 4`)
	results := map[int]map[string]any{}
	for s := bufio.NewScanner(strings.NewReader(got.out)); s.Scan(); {
		var r map[string]any
		if err := json.Unmarshal(s.Bytes(), &r); err != nil {
			t.Fatalf("%v in %q", err, s.Text())
		}
		results[int(r["line"].(float64))] = r
	}
	if got.code != 1 || len(results) != 5 {
		t.Fatalf("it ended with %d: %s%s", got.code, got.out, got.errors)
	}
	for n, code := range map[int]float64{1: 0, 2: 0, 3: 125, 4: 1, 5: 0} {
		r := results[n]
		text, _ := os.ReadFile(filepath.Join(here, string(rune('0'+n)), "made")) // of one that was not begun there is none
		if r["exit_code"] != code || code != 125 && (!strings.Contains(r["output"].(string), "of "+string(rune('0'+n))) || len(text) == 0) {
			t.Errorf("of line %d came %+v, and %q was brought", n, r, text)
		}
	}
	none("after many")
}

// Errands whose caller is killed, at ten moments, leave nothing, and cost what they
// ran.
func TestErrandsOfTheKilled(t *testing.T) {
	t.Parallel()
	if os.Getenv("YARDBENCH_TEST_BINARY") == "" {
		t.Skip("needs the built binary: run it by `make test`")
	}
	w := simWorld(t)
	w.kill()
	w.more = append(w.more, "--errand-lease", "6s")
	w.start()
	people := []string{"ingrid", "mats", "marit", "peder", "runa", "astrid", "jonas", "frida", "embla", "hauk"}
	astrid := w.client("astrid")
	// A simulated command goes on as long as somebody may type into it.
	keyboard, typed, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	defer keyboard.Close()
	defer typed.Close()
	launched := func() (n int) {
		entries, err := astrid.Journal.List(t.Context(), yb.JournalQuery{Kind: "workspace.launched", Limit: 100})
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range entries {
			if strings.HasPrefix(e.Data["name"].(string), "errand") {
				n++
			}
		}
		return n
	}
	began := time.Now()
	for n, person := range people {
		w.must(w.as(person, "", "whoami"), 0)
		before := launched()
		c := w.command(person, "", "errand", "tide-board", "--", "sleep", "600")
		c.Stdin = keyboard
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		// The first are killed at any moment of a launch, the last when it is made.
		time.Sleep(time.Duration(n) * 60 * time.Millisecond)
		for end := time.Now().Add(slack * 5 * time.Second); n >= 5 && launched() == before && time.Now().Before(end); {
			time.Sleep(20 * time.Millisecond)
		}
		_ = c.Process.Kill() // it is there
		_ = c.Wait()         // it was killed
	}
	if n := launched(); n < 4 {
		t.Fatalf("only %d errands were launched before their callers were killed", n)
	}
	// One whose caller is there stays, and the service is killed meanwhile too.
	w.must(w.as("tuva", "", "whoami"), 0)
	alive := w.command("tuva", "", "errand", "fare-desk", "--", "sleep", "600")
	alive.Stdin = keyboard
	said := &syncBuffer{}
	alive.Stderr = said
	if err := alive.Start(); err != nil {
		t.Fatal(err)
	}
	defer alive.Process.Kill() //nolint:errcheck // it may have ended
	left := func() (out []wire.WorkspaceRow) {
		all, err := astrid.Workspaces.List(t.Context(), yb.ListQuery{All: true})
		if err != nil {
			return []wire.WorkspaceRow{{Name: err.Error()}}
		}
		return all
	}
	for end := time.Now().Add(slack * 25 * time.Second); time.Now().Before(end); time.Sleep(500 * time.Millisecond) {
		if all := left(); len(all) == 0 || len(all) == 1 && all[0].Owner == "tuva" {
			break
		}
	}
	if all := left(); len(all) != 1 || all[0].Owner != "tuva" || time.Since(began) < 5*time.Second {
		t.Fatalf("after %s there are left %+v; it said:\n%s", time.Since(began), all, said)
	}
	_ = alive.Process.Signal(os.Interrupt) // it is there
	_ = alive.Wait()                       // it was interrupted
	if all := left(); len(all) > 0 && all[0].Phase != "removing" {
		t.Errorf("what was interrupted left %+v", all)
	}
	cost, err := astrid.Costs.Report(t.Context(), yb.CostQuery{By: "person"})
	if err != nil {
		t.Fatal(err)
	}
	costs := 0
	for _, r := range cost.Rows { // at most the lease, and the time until it is noticed
		if ran := r.ActiveS + r.IdleS; ran > 0 && ran < 40 && r.TotalMicros > 0 {
			costs++
		} else if ran >= 40 {
			t.Errorf("an errand of %s whose caller was killed ran for %d s", r.Key, ran)
		}
	}
	if costs < 4 {
		t.Errorf("only %d errands cost what they ran: %+v", costs, cost.Rows)
	}
	over, err := astrid.Journal.List(t.Context(), yb.JournalQuery{Kind: "workspace.errand-over", Limit: 100})
	if err != nil || len(over) < 4 || over[0].Data["why"] != "whoever asked for it was not heard of any more" {
		t.Errorf("the journal says %+v, %v", over, err)
	}
}

// Files and folders go into a workspace and come out of it as they are; what is there
// already is not moved again.
func TestCopy(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0)
	here := t.TempDir()
	long := strings.Repeat("level ", 200_000)
	for name, text := range map[string]string{"charts/north/a b.csv": long, "charts/empty": "", "charts/run.sh": "#!/bin/sh\n"} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(here, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(here, name), []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("/etc/passwd", filepath.Join(here, "charts", "link")); err != nil {
		t.Fatal(err)
	}
	counts := func(files, there int, args ...string) {
		t.Helper()
		var c struct{ Files, There int }
		out := w.must(w.as("ingrid", "", append(append([]string{"copy"}, args...), "--json")...), 0)
		if err := json.Unmarshal([]byte(out), &c); err != nil || c.Files != files || c.There != there {
			t.Errorf("%v copied %s, %v", args, out, err)
		}
	}
	counts(3, 0, filepath.Join(here, "charts"), "quay:data/of")
	counts(0, 3, filepath.Join(here, "charts"), "quay:data/of")
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "test -x data/of/charts/run.sh && ! test -e data/of/charts/link && echo more > data/of/charts/empty"), 0)
	back := filepath.Join(here, "back")
	counts(3, 0, "quay:data/of/charts", back)
	counts(0, 3, "quay:data/of/charts", back)
	for name, want := range map[string]string{"north/a b.csv": long, "empty": "more\n", "run.sh": "#!/bin/sh\n"} {
		if text, err := os.ReadFile(filepath.Join(back, "charts", name)); err != nil || string(text) != want {
			t.Errorf("%s came back as %d bytes, %v", name, len(text), err)
		}
	}
	if err := os.WriteFile(filepath.Join(back, "charts", "empty"), []byte("half"), 0o600); err != nil { // it was cut off
		t.Fatal(err)
	}
	counts(1, 2, "quay:data/of/charts", back)
	// A command in a terminal of its own, in a folder, with a variable.
	s, err := w.client("ingrid").Workspaces.Open(t.Context(), "quay", wire.Run{Argv: []string{"sh", "-c", "test -t 0 && test -t 1 && pwd && echo of $A; exit 5"}, TTY: true, Columns: 80, Rows: 24, Env: map[string]string{"A": "b"}, Folder: "data"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	for said := ""; ; {
		kind, p, err := s.Receive()
		if err != nil {
			t.Fatal(err, said)
		}
		if kind == 'x' {
			if !strings.Contains(string(p), `"code":5`) || !strings.Contains(said, "/workspaces/tide-board/data") || !strings.Contains(said, "of b") {
				t.Errorf("it said %q and ended with %s", said, p)
			}
			break
		}
		said += string(p)
	}
	w.must(w.as("ingrid", "", "run", "--folder", "data", "--env", "A=b", "quay", "--", "sh", "-c", "pwd; echo of $A"), 0, "/workspaces/tide-board/data", "of b")
	w.must(w.as("ingrid", "", "copy", "quay:nothing", back), 3, "has no nothing")
	w.must(w.as("ingrid", "", "copy", "here", back), 2, "NAME:PATH")
	w.must(w.as("ingrid", "", "copy", "quay:a", "quay:b"), 2, "NAME:PATH")
	w.must(w.as("ingrid", "", "copy", filepath.Join(here, "nothing"), "quay:"), 1, "no such file")
	w.must(w.as("mats", "", "copy", "quay.ingrid:data", back), 3, "no workspace")
}
