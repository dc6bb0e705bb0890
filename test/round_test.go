package test

import (
	"bufio"
	"context"
	"encoding/csv"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/moby/moby/client"

	yb "yardbench/internal/client"
	"yardbench/internal/demo"
	"yardbench/internal/store"
	"yardbench/internal/wire"
)

// rules puts the demo's house rules with some of their words changed.
func (w *world) rules(changes ...string) {
	w.t.Helper()
	file := filepath.Join(w.dir, "rules.yaml")
	if err := os.WriteFile(file, []byte(strings.NewReplacer(changes...).Replace(demo.RulesBeside(w.git))), 0o600); err != nil {
		w.t.Fatal(err)
	}
	w.must(w.as("astrid", "", "rules", "put", file, "--why", "for a test"), 0, "is in force")
}

// Secrets by level and form reach what is opened next; what still holds an
// older value is named; nothing of them is written down.
func TestSecretsByLevelAndForm(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	c := w.client("ingrid")
	const mine, house, changed = "mine-of-ingrid-1", "the-house-value-1", "mine-of-ingrid-2"
	w.must(w.as("ingrid", mine, "secret", "put", "KEY"), 4, "say whom it is given to")
	w.must(w.as("runa", house, "secret", "put", "KEY", "--of-repository", "tide-board"), 0)
	w.must(w.as("runa", house+"-pem", "secret", "put", "PEM", "--of-repository", "tide-board", "--as-file"), 0)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0)
	see := func(want string) {
		t.Helper()
		w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", `echo "KEY is $KEY"; echo "PEM is $PEM, in $PEM_FILE: $(cat $PEM_FILE)"; stat -c '%U %a' $PEM_FILE; stat -f -c %T $PEM_FILE`), 0, want,
			"PEM is , in /run/yardbench/secrets/PEM: "+house+"-pem", "crew 400", "tmpfs")
	}
	see("KEY is " + house)
	w.must(w.as("ingrid", mine, "secret", "put", "KEY", "--for", "tide-board"), 0, "version 1")
	see("KEY is " + mine) // mine before the repository's
	w.must(w.as("ingrid", "", "secret", "explain", "tide-board"), 0, "it is yours, for this repository", "your own of the same name counts before", "TIDE_API_KEY", "nobody gives it")
	w.must(w.as("mats", "", "secret", "explain", "tide-board"), 0, "it is the repository's")

	s, err := c.Open(t.Context(), "quay", wire.Run{Terminal: "old", Columns: 80, Rows: 24})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	w.until(c, "quay", 10*time.Second, func(ws wire.Workspace) bool { return condition(ws, "secrets changed") == "" })
	w.must(w.as("ingrid", changed, "secret", "put", "KEY"), 0, "version 2")
	see("KEY is " + changed)
	w.until(c, "quay", 10*time.Second, func(ws wire.Workspace) bool {
		return regexp.MustCompile(`terminal old \(since .*\) holds an older KEY`).MatchString(condition(ws, "secrets changed"))
	})
	// Removed and set anew it is version 1 again, and still not what the terminal has.
	w.must(w.as("ingrid", "", "secret", "remove", "KEY"), 0)
	w.must(w.as("ingrid", changed, "secret", "put", "KEY", "--for", "tide-board"), 0, "version 1")
	w.until(c, "quay", 10*time.Second, func(ws wire.Workspace) bool {
		return strings.Contains(condition(ws, "secrets changed"), "terminal old") && !strings.Contains(condition(ws, "secrets changed"), "run ")
	})
	if err := s.Send('i', []byte("exit\n")); err != nil {
		t.Fatal(err)
	}
	w.until(c, "quay", 10*time.Second, func(ws wire.Workspace) bool { return condition(ws, "secrets changed") == "" })
	w.must(w.as("runa", "", "secret", "remove", "PEM", "--of-repository", "tide-board"), 0)
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", `test -d /run/yardbench/secrets && test ! -e /run/yardbench/secrets/PEM && test -z "$PEM_FILE"`), 0)
	ws, err := c.Show(t.Context(), "quay")
	if err != nil {
		t.Fatal(err)
	}
	w.nowhere(t, ws.ID, w.must(w.as("ingrid", "", "logs", "quay"), 0), mine, house, changed)
}

func condition(ws wire.Workspace, kind string) string {
	for _, c := range ws.Conditions {
		if c.Kind == kind {
			return c.Reason
		}
	}
	return ""
}

// Two hundred launches at the same time where there is room for three: three
// come up, in the size they were given, and the others are told why.
func TestTwoHundredLaunchesAtOnce(t *testing.T) {
	w := newWorld(t)
	w.rules("person: {existing: 5, running: 3, cores: 6, memory: 12 GiB}", "person: {running: 3}", "small:  {cores: 1, memory: 1 GiB", "small:  {cores: 0.5, memory: 256 MiB")
	c := w.client("ingrid")
	errs := make([]error, 200)
	var wg sync.WaitGroup
	for n := range errs {
		wg.Go(func() { _, errs[n] = c.Launch(context.Background(), wire.Launch{Repository: "berth-planner"}) })
	}
	wg.Wait()
	accepted := 0
	for _, err := range errs {
		switch {
		case err == nil:
			accepted++
		case !strings.Contains(err.Error(), "running, ingrid: 3 used + 1 asked of 3 allowed"):
			t.Fatalf("a launch is refused with %v", err)
		}
	}
	if accepted != 3 {
		t.Fatalf("%d launches were accepted", accepted)
	}
	for _, name := range []string{"berth-planner", "berth-planner-2", "berth-planner-3"} {
		ws := w.until(c, name, 60*time.Second, inPhase("ready"))
		if ws.CoresMilli != 500 || ws.Size != "small" {
			t.Errorf("%s has %+v", name, ws)
		}
	}
	cli := w.docker()
	defer cli.Close()
	list, err := cli.ContainerList(context.Background(), client.ContainerListOptions{Filters: client.Filters{}.Add("label", "yardbench.installation="+w.installation())})
	if err != nil || len(list.Items) != 3 {
		t.Fatalf("the engine runs %d containers, %v", len(list.Items), err)
	}
	in, err := cli.ContainerInspect(context.Background(), list.Items[0].ID, client.ContainerInspectOptions{})
	if err != nil || in.Container.HostConfig.NanoCPUs != 5e8 || in.Container.HostConfig.Memory != 256<<20 || in.Container.HostConfig.MemorySwap != 256<<20 {
		t.Errorf("the engine bounds it to %d, %d, %d, %v", in.Container.HostConfig.NanoCPUs, in.Container.HostConfig.Memory, in.Container.HostConfig.MemorySwap, err)
	}
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--dry-run"), 4, "running, ingrid: 3 used + 1 asked of 3 allowed — over")
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--size", "huge"), 4, "the house rules have: small, middle, large")
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--rest-after", "11h"), 4, "at most 10 h")
	w.must(w.as("ingrid", "", "stop", "berth-planner-2"), 0)
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--name", "fourth"), 0)
	w.must(w.as("ingrid", "", "start", "berth-planner-2"), 4, "3 used + 1 asked", "stop one of yours that runs: berth-planner, berth-planner-3, fourth")
}

// A workspace's disk is as large as its size says and not larger, over a stop,
// a kill and a start; nothing of it stays when it is gone, and none is held
// while it is stopped.
func TestBoundedDisk(t *testing.T) {
	if !bounded() {
		t.Skip("needs loop devices, losetup and mkfs.ext4, as root")
	}
	w := newWorld(t)
	w.rules("small:  {cores: 1, memory: 1 GiB, disk: 10 GiB}", "small:  {cores: 1, memory: 1 GiB, disk: 64 MiB}")
	attached := func() string {
		out, err := exec.Command("losetup", "--list", "--noheadings", "--output", "BACK-FILE").Output()
		if err != nil {
			t.Fatal(err)
		}
		var ours []string
		for _, l := range strings.Fields(string(out)) {
			if strings.HasPrefix(l, w.dir) {
				ours = append(ours, l)
			}
		}
		return strings.Join(ours, " ")
	}
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--name", "small"), 0)
	w.must(w.as("ingrid", "", "run", "small", "--", "sh", "-c", "dd if=/dev/zero of=full bs=1M count=100; df --output=size -m . | tail -1; ls -A"), 0, "No space left on device", "full")
	w.must(w.as("ingrid", "", "run", "small", "--", "sh", "-c", "rm full && echo kept > note && git status --short && make check"), 0, "?? note")
	if attached() == "" {
		t.Error("while it runs its disk is no device")
	}
	w.kill()
	w.start()
	w.must(w.as("ingrid", "", "rebuild", "small"), 0) // two bodies on one disk for a moment
	w.must(w.as("ingrid", "", "run", "small", "--", "cat", "note"), 0, "kept")
	w.must(w.as("ingrid", "", "stop", "small"), 0)
	for end := time.Now().Add(slack * 2 * time.Second); attached() != "" && time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
	}
	if left := attached(); left != "" {
		t.Errorf("stopped, it holds %s", left)
	}
	w.must(w.as("ingrid", "", "start", "small"), 0)
	w.must(w.as("ingrid", "", "run", "small", "--", "cat", "note"), 0, "kept")
	w.must(w.as("ingrid", "", "remove", "small", "--yes", "--discard"), 0)
	if left := attached(); left != "" {
		t.Errorf("removed, it holds %s", left)
	}
}

// What works stays awake, what is held is not put to rest, what is idle is
// warned and put to rest, with the reason, and its unpushed work is known.
func TestRest(t *testing.T) {
	w := newWorld(t)
	w.rules("quiet_after: 5 min", "quiet_after: 2 s", "rest_after: 45 min", "rest_after: 9 s", "warn_before: 5 min", "warn_before: 4 s", "person: {existing: 5, running: 3, cores: 6, memory: 12 GiB}", "person: {running: 8}")
	c := w.client("ingrid")
	for _, name := range []string{"left", "busy", "held"} {
		w.must(w.as("ingrid", "", "launch", "berth-planner", "--name", name, "--no-wait"), 0)
	}
	for _, name := range []string{"left", "busy", "held"} {
		w.until(c, name, 40*time.Second, inPhase("ready"))
	}
	w.must(w.as("ingrid", "", "hold", "held", "13h", "--why", "x"), 4, "at most 12 h")
	w.must(w.as("ingrid", "", "hold", "held", "1h"), 2, "why")
	w.must(w.as("mats", "", "hold", "held.ingrid", "1h", "--why", "x"), 3)
	w.must(w.as("ingrid", "", "hold", "held", "1h", "--why", "a long test runs"), 0, "not put to rest before")
	w.must(w.as("ingrid", "", "run", "left", "--", "sh", "-c", "echo precious > note.txt"), 0)
	s, err := c.Open(t.Context(), "left", wire.Run{Columns: 80, Rows: 24})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	var seen syncBuffer
	go func() {
		for {
			_, p, err := s.Receive()
			if err != nil {
				return
			}
			_, _ = seen.Write(p)
		}
	}()
	b, err := c.Open(t.Context(), "busy", wire.Run{Columns: 80, Rows: 24})
	if err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	if err := b.Send('i', []byte("while :; do :; done\n")); err != nil {
		t.Fatal(err)
	}
	w.until(c, "left", 10*time.Second, func(ws wire.Workspace) bool { return condition(ws, "idle") != "" && ws.Rest != nil && ws.Rest.Warn })
	ws := w.until(c, "left", 20*time.Second, inPhase("stopped"))
	if !regexp.MustCompile(`put to rest: .* at \d\d:\d\d CES?T, and nothing since`).MatchString(ws.Cause) || ws.RemovesAt == nil || !strings.Contains(condition(ws, "unpushed work"), "1 not committed") {
		t.Errorf("at rest it says %q, goes at %v, with %v", ws.Cause, ws.RemovesAt, ws.Conditions)
	}
	if !strings.Contains(seen.String(), "this workspace is put to rest at") {
		t.Errorf("nobody at the terminal was warned: %q", seen.String())
	}
	w.must(w.as("ingrid", "", "remove", "left", "--yes"), 4, "note.txt") // looked at before it stopped
	for name, why := range map[string]string{"busy": "its processor was busy", "held": ""} {
		ws := w.until(c, name, time.Second, inPhase("ready"))
		if ws.Rest == nil || !strings.Contains(ws.Rest.LastSign, why) {
			t.Errorf("%s is awake by %+v", name, ws.Rest)
		}
	}
	if ws, _ := c.Show(t.Context(), "held"); ws.Rest == nil || ws.Rest.HeldUntil == nil || condition(ws, "held") == "" || condition(ws, "idle") == "" {
		t.Errorf("held it is %+v", ws)
	}
	w.must(w.as("ingrid", "", "hold", "held", "--end"), 0)
	w.until(c, "held", 10*time.Second, inPhase("stopped"))
	w.must(w.as("ingrid", "", "start", "left"), 0)
	w.must(w.as("ingrid", "", "run", "left", "--", "cat", "note.txt"), 0, "precious")
	journal := w.must(w.as("ingrid", "", "journal", "--workspace", "left", "--kind", "workspace.rested"), 0, "put to rest")
	if strings.Count(journal, "workspace.rested") != 1 {
		t.Errorf("it was put to rest more than once:\n%s", journal)
	}
}

// What was used is metered to the second, the same after a kill, priced by
// the rules, and seen by whom it concerns.
func TestCost(t *testing.T) {
	w := newWorld(t)
	c := w.client("ingrid")
	w.rules("small: 0.06", "small: 3600") // a euro a second
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--name", "metered"), 0)
	began := time.Now()
	time.Sleep(1500 * time.Millisecond)
	w.kill()
	time.Sleep(1500 * time.Millisecond)
	w.start()
	w.until(c, "metered", 10*time.Second, inPhase("ready"))
	w.must(w.as("ingrid", "", "stop", "metered"), 0)
	ran := time.Since(began)
	report, err := c.Cost(t.Context(), yb.CostQuery{By: "workspace"})
	if err != nil || len(report.Rows) != 1 || report.Rows[0].Key != "metered.ingrid" || report.Currency != "EUR" {
		t.Fatalf("the report is %+v, %v", report, err)
	}
	row := report.Rows[0]
	if euros := time.Duration(row.ActiveMicros+row.IdleMicros) * time.Microsecond; euros < 3*time.Second || euros > ran+5*time.Second {
		t.Errorf("at a euro a second it cost %s, and ran %s", euros, ran)
	}
	if ws, err := c.Show(t.Context(), "metered"); err != nil || ws.CostMicros != report.Total.TotalMicros || len(ws.Day) == 0 {
		t.Errorf("the workspace says %d, the report %d, %v", ws.CostMicros, report.Total.TotalMicros, err)
	}
	w.must(w.as("runa", "", "cost", "--by", "person"), 0, "ingrid")
	if out := w.must(w.as("mats", "", "cost"), 0); strings.Contains(out, "Timetable") {
		t.Errorf("somebody else sees it:\n%s", out)
	}
	rows, err := csv.NewReader(strings.NewReader(w.must(w.as("audun", "", "cost", "--by", "day", "--csv"), 0))).ReadAll()
	if err != nil || len(rows) < 2 || rows[0][9] != "total_EUR" || !regexp.MustCompile(`^\d{4}-\d\d-\d\d$`).MatchString(rows[1][0]) {
		t.Errorf("as CSV it is %v, %v", rows, err)
	}
	w.must(w.as("ingrid", "", "cost", "--from", "yesterday"), 4, "is no day")
	w.must(w.as("ingrid", "", "cost", "--from", "2026-02-01", "--to", "2026-01-01"), 4, "cannot be reported")
	w.must(w.as("ingrid", "", "cost", "--by", "colour"), 4, "by")
	w.kill()
	st, err := store.Open(t.Context(), filepath.Join(w.dir, "data", "yardbench.db"), time.Now)
	if err != nil {
		t.Fatal(err)
	}
	stored, computed, err := st.Read().Remeter(t.Context())
	if err != nil || len(stored) < 2 || !reflect.DeepEqual(stored, computed) {
		t.Errorf("stored is %v, the journal comes to %v, %v", stored, computed, err)
	}
	st.Close()
	w.start()
}

// The first start of a service prints one link; by it the first operator sets
// up their account, and brings others in.
func TestFirstOperator(t *testing.T) {
	needEngine(t)
	dir, err := os.MkdirTemp("", "ybt-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	w := &world{t: t, dir: dir, config: map[string]string{}, output: &syncBuffer{}}
	cmd := w.command("service", "", "serve", "--data", filepath.Join(dir, "data"), "--listen", "127.0.0.1:0", "--engine", "unix:///nowhere/engine.sock")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	var link string
	for sc := bufio.NewScanner(out); w.address == "" && sc.Scan(); {
		if strings.Contains(sc.Text(), "/enrol#") {
			link = strings.TrimSpace(sc.Text())
		}
		_, w.address, _ = strings.Cut(sc.Text(), "the service is at ")
	}
	w.must(w.command("astrid", "short", "enrol", link, "--as", "astrid", "--full-name", "Astrid Holm", "--email", "astrid@skerryline.example").run(), 4, "at least 8")
	w.must(w.command("astrid", demo.Password, "enrol", link, "--as", "astrid", "--full-name", "Astrid Holm", "--email", "astrid@skerryline.example").run(), 0, "operator")
	w.must(w.command("mallory", demo.Password, "enrol", link, "--as", "mallory", "--full-name", "M", "--email", "m@x.example").run(), 3, "was used")
	w.must(w.as("astrid", "", "people", "add-team", "Harbour"), 0)
	var e wire.Enrolment
	if err := json.Unmarshal([]byte(w.must(w.as("astrid", "", "people", "enrol", "--team", "Harbour", "--json"), 0)), &e); err != nil {
		t.Fatal(err)
	}
	w.must(w.command("mats", demo.Password, "enrol", e.Link, "--as", "mats", "--full-name", "Mats Eide", "--email", "mats@skerryline.example").run(), 0, "developer")
	w.must(w.as("mats", "", "people"), 4, "does not allow")
	token := strings.TrimSpace(w.must(w.as("mats", "", "token", "make", "nightly"), 0))
	program := w.command("nobody", "", "list")
	program.Env = append(program.Env, "YARDBENCH_ADDRESS="+w.address, "YARDBENCH_TOKEN="+token)
	w.must(program.run(), 0, "no workspaces")
	w.must(w.as("astrid", "", "people", "close", "mats"), 0, "may not sign in")
	program = w.command("nobody", "", "list")
	program.Env = append(program.Env, "YARDBENCH_ADDRESS="+w.address, "YARDBENCH_TOKEN="+token)
	w.must(program.run(), 5)
	w.must(w.as("astrid", "", "people", "close", "astrid"), 4, "your own")
	w.must(w.as("astrid", "", "people", "set", "nobody", "--role", "lead"), 3, "nobody")
	w.must(w.as("astrid", "", "people"), 0, "Mats Eide", "closed")
	for range 11 {
		w.command("mats", "wrong", "sign-in", w.address, "--as", "mats").run()
	}
	w.must(w.command("mats", demo.Password, "sign-in", w.address, "--as", "mats").run(), 4, "too many")
}
