package test

import (
	"context"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"yardbench/wire"
)

// slowDefinition takes long enough in each part to be killed in it, and
// counts how often its set-up ran.
var slowDefinition = map[string]string{
	".devcontainer/devcontainer.json": `{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew",
		"postCreateCommand": "echo under way; echo begun >> .git/runs; sleep 3; echo ended >> .git/runs"}`,
	".devcontainer/Dockerfile": "FROM skerryline/base:1\nRUN sleep 2 && echo $RANDOM > /stamp\n",
}

// The service is killed in the middle of a launch and started again. The
// launch completes, no set-up command runs twice, nothing is left or doubled.
func TestKilledInTheMiddleOfALaunch(t *testing.T) {
	t.Parallel()
	for _, moment := range []struct{ name, step string }{
		{"while the image is built", "Image"},
		{"while the container comes up", "Start"},
		{"while a set-up command runs", "postCreateCommand"},
	} {
		t.Run(moment.name, func(t *testing.T) {
			w := newWorld(t)
			w.register("slow", slowDefinition)
			c := w.client("ingrid")
			ctx := context.Background()
			if _, err := c.Workspaces.Launch(ctx, wire.Launch{Repository: "slow"}); err != nil {
				t.Fatal(err)
			}
			for end := time.Now().Add(slack * 30 * time.Second); !under(c.Workspaces.Sheet(ctx, "slow", 0))(moment.step); time.Sleep(5 * time.Millisecond) {
				if time.Now().After(end) {
					t.Fatalf("the step %s was never under way", moment.step)
				}
			}
			var followed strings.Builder
			over := make(chan error, 1)
			go func() { over <- c.Workspaces.CopyLog(ctx, "slow", 0, 0, 0, true, &followed) }()
			time.Sleep(100 * time.Millisecond)
			w.kill()
			w.start()
			ws := w.until(c, "slow", 60*time.Second, inPhase("ready"))
			if ws.Cause != "" || len(ws.Conditions) != 0 {
				t.Errorf("it is ready with %q, %v", ws.Cause, ws.Conditions)
			}
			if out := w.must(w.as("ingrid", "", "run", "slow", "--", "cat", ".git/runs"), 0); out != "begun\nended\n" {
				t.Errorf("the set-up command ran as\n%s", out)
			}
			if parts := strings.Split(w.leftovers(w.installation()), "\n"); len(parts) != 4 {
				t.Errorf("one container, volume, network and image are wanted, there are %v", parts)
			}
			sheets, err := c.Workspaces.Sheets(ctx, "slow")
			if err != nil || len(sheets) != 1 || sheets[0].Outcome != "done" {
				t.Errorf("the launch sheets are %+v, %v", sheets, err)
			}
			logs := w.must(w.as("ingrid", "", "logs", "slow"), 0)
			if strings.Count(logs, "== Clone") != 1 {
				t.Errorf("the log tells of several clones:\n%s", logs)
			}
			// A step that was begun anew has its log anew; of a set-up that went on
			// whoever follows sees each line once.
			if err := <-over; err != nil || moment.step == "postCreateCommand" && followed.String() != logs {
				t.Errorf("who followed the log over the kill saw, with %v\n%s\nand not\n%s", err, followed.String(), logs)
			}
			if rest := w.must(w.as("ingrid", "", "logs", "slow", "--from", "9"), 0); rest != logs[9:] {
				t.Errorf("from the tenth byte on it is\n%s", rest)
			}
		})
	}
}

// under tells of a launch sheet that was just read whether a step is under way.
func under(sheet wire.Sheet, err error) func(title string) bool {
	return func(title string) bool {
		return err == nil && slices.ContainsFunc(sheet.Steps, func(s wire.Step) bool { return s.Title == title && s.EndedAt == nil })
	}
}

// What is asked while something else is under way comes about: a stop in the
// middle of a build, a removal in the middle of a set-up; two at once.
func TestAskedForSomethingElseMeanwhile(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.register("slow", slowDefinition)
	c := w.client("ingrid")
	ctx := context.Background()
	if _, err := c.Workspaces.Launch(ctx, wire.Launch{Repository: "slow"}); err != nil {
		t.Fatal(err)
	}
	w.until(c, "slow", 20*time.Second, inPhase("preparing"))
	if _, err := c.Workspaces.Stop(ctx, "slow"); err != nil {
		t.Fatal(err)
	}
	w.until(c, "slow", 20*time.Second, inPhase("stopped"))
	w.must(w.as("ingrid", "", "start", "slow", "--json"), 0, `"ready"`)

	// The container ends behind our back: seen, with its cause; a start mends it.
	docker := w.docker()
	defer docker.Close()
	killContainer(t, docker, w.installation())
	ws := w.until(c, "slow", 10*time.Second, inPhase("stopped"))
	if !strings.Contains(ws.Cause, "137") {
		t.Errorf("the cause of the end is %q", ws.Cause)
	}
	w.must(w.as("ingrid", "", "start", "slow"), 0, "slow is ready")

	// Ten launches of one name at once: one is accepted.
	var wg sync.WaitGroup
	var mu sync.Mutex
	accepted, refused := 0, 0
	for range 10 {
		wg.Go(func() {
			_, err := c.Workspaces.Launch(ctx, wire.Launch{Repository: "berth-planner", Name: "one"})
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				accepted++
			} else if strings.Contains(err.Error(), "already") {
				refused++
			}
		})
	}
	wg.Wait()
	if accepted != 1 || refused != 9 {
		t.Errorf("%d of ten were accepted, %d refused", accepted, refused)
	}
	w.until(c, "one", 30*time.Second, inPhase("ready"))
	if _, err := c.Workspaces.Remove(ctx, "one", false); err != nil {
		t.Fatal(err)
	}
}

// Two installations on one engine: neither touches what is the other's, and
// both find subnets.
func TestTwoInstallationsOnOneEngine(t *testing.T) {
	t.Parallel()
	one, two := newWorld(t), newWorld(t)
	for _, w := range []*world{one, two} {
		w.must(w.as("ingrid", "", "launch", "berth-planner"), 0, "is ready")
	}
	before := two.leftovers(two.installation())
	one.must(one.as("ingrid", "", "remove", "berth-planner", "--yes"), 0)
	one.kill()
	one.start()
	if after := two.leftovers(two.installation()); after != before || strings.Count(after, "\n") != 2 {
		t.Errorf("the second installation had\n%s\nand now has\n%s", before, after)
	}
	two.must(two.as("ingrid", "", "run", "berth-planner", "--", "make", "check"), 0, "berth 1")
}

// A set-up command that its container's end cuts off is marked, and not run
// again behind anybody's back. Ctrl-C leaves a launch going on.
func TestCutOff(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.register("slow", slowDefinition)
	c := w.client("ingrid")
	w.must(w.as("ingrid", "", "secret", "list"), 0)
	cmd := w.command("ingrid", "", "launch", "slow")
	errs := &syncBuffer{}
	cmd.Stdout, cmd.Stderr = errs, errs
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(slack * 30 * time.Second); !under(c.Workspaces.Sheet(t.Context(), "slow", 0))("postCreateCommand"); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("the set-up was never under way")
		}
	}
	for end := time.Now().Add(slack * 10 * time.Second); ; time.Sleep(20 * time.Millisecond) { // until the command itself has begun
		var log strings.Builder
		if err := c.Workspaces.CopyLog(t.Context(), "slow", 0, 0, 0, false, &log); err == nil && strings.Contains(log.String(), "under way") {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("the set-up command has not begun:\n%s", log.String())
		}
	}
	if err := cmd.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); cmd.ProcessState.ExitCode() != 130 || !strings.Contains(errs.String(), "goes on by itself") {
		t.Errorf("Ctrl-C gave %v and said\n%s", err, errs)
	}
	docker := w.docker()
	defer docker.Close()
	killContainer(t, docker, w.installation())
	ws := w.until(c, "slow", 30*time.Second, inPhase("ready"))
	if len(ws.Conditions) != 1 || ws.Conditions[0].Kind != "set-up failed" || !strings.Contains(ws.Conditions[0].Reason, "not run again") {
		t.Errorf("it is ready with %v", ws.Conditions)
	}
	if out := w.must(w.as("ingrid", "", "run", "slow", "--", "cat", ".git/runs"), 0); out != "begun\n" {
		t.Errorf("the set-up command ran as\n%s", out)
	}
	w.must(w.as("ingrid", "", "rebuild", "slow"), 0, "slow is ready")
	if out := w.must(w.as("ingrid", "", "run", "slow", "--", "cat", ".git/runs"), 0); out != "begun\nbegun\nended\n" {
		t.Errorf("after a rebuild the set-up command ran as\n%s", out)
	}
}

// Killed in the middle of a prebuild, the service goes on with it: the set-up
// runs once, the image is kept once, and two who ask for a run at the same
// time get one after the other.
func TestKilledInTheMiddleOfAPrebuild(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.register("slow", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew",
		"onCreateCommand": "echo begun >> .git/runs; sleep 3; dd if=/dev/urandom of=.git/large bs=1M count=60 status=none; echo ended >> .git/runs"}`})
	w.reads("slow")
	runa, ctx := w.client("runa"), t.Context()
	if _, err := runa.Prebuilds.PutPlan(ctx, "slow", wire.PutPlan{Keep: 5}); err != nil {
		t.Fatal(err)
	}
	number := 0
	for _, step := range []string{"Clone", "onCreateCommand", "Keep as prepared image"} {
		t.Run(step, func(t *testing.T) {
			run, err := runa.Prebuilds.RunPlan(ctx, "slow", "")
			if err != nil {
				t.Fatal(err)
			}
			number++
			for end := time.Now().Add(slack * 30 * time.Second); !under(runa.Prebuilds.RunSheet(ctx, run.ID))(step); time.Sleep(2 * time.Millisecond) {
				if time.Now().After(end) {
					t.Fatalf("the step %s was never under way", step)
				}
			}
			w.kill()
			w.start()
			plan := w.untilPlan(runa, "slow", func(p wire.PrebuildPlan) bool { return p.Runs[0].Number == number && p.Runs[0].EndedAt != nil })
			if r := plan.Runs[0]; r.Outcome != "done" || !r.Serves {
				t.Fatalf("the run ended as %+v", r)
			}
			w.must(w.as("ingrid", "", "launch", "slow", "--name", "user"), 0, "served by prepared image")
			if out := w.must(w.as("ingrid", "", "run", "user", "--", "cat", ".git/runs"), 0); out != "begun\nended\n" {
				t.Errorf("the set-up ran as %q", out)
			}
			w.must(w.as("ingrid", "", "remove", "user", "--yes"), 0)
		})
	}
	if _, err := runa.Prebuilds.RunPlan(ctx, "slow", ""); err != nil {
		t.Fatal(err)
	}
	w.must(w.as("runa", "", "prebuild", "run", "slow"), 4, "another begins when it has ended")
	w.must(w.as("runa", "", "prebuild", "remove", "slow", "--yes"), 4, "is under way")
	plan := w.untilPlan(runa, "slow", func(p wire.PrebuildPlan) bool { return p.Runs[0].Number == number+1 && p.Runs[0].EndedAt != nil })
	if len(plan.Runs) != number+1 {
		t.Errorf("of one commit there are %d runs", len(plan.Runs))
	}
}

// What the engine does is seen within two seconds, with its cause: a process
// that is ended for want of memory, and a container that ends.
func TestSeenAtOnce(t *testing.T) {
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "berth-planner"), 0, "is ready")
	c := w.client("ingrid")
	seen := func(what string, is func(wire.Workspace) bool, since time.Time) wire.Workspace {
		t.Helper()
		ws := w.until(c, "berth-planner", 20*time.Second, is)
		if took := time.Since(since); took > slack*2*time.Second {
			t.Errorf("%s is seen after %.1f s", what, took.Seconds())
		}
		return ws
	}
	w.must(w.as("ingrid", "", "run", "berth-planner", "--", "sh", "-c", "python3 -c 'x = bytearray(3 << 30)'; echo ended with $?"), 0, "ended with 137")
	hungry := func(ws wire.Workspace) bool {
		return slices.ContainsFunc(ws.Conditions, func(c wire.Condition) bool { return c.Kind == "out of memory" })
	}
	ws := seen("a process without memory", hungry, time.Now())
	if i := slices.IndexFunc(ws.Conditions, func(c wire.Condition) bool { return c.Kind == "out of memory" }); !strings.Contains(ws.Conditions[i].Reason, "1 GiB") {
		t.Errorf("it is told as %q", ws.Conditions[i].Reason)
	}
	w.must(w.as("ingrid", "", "show", "berth-planner"), 0, "out of memory", "1 GiB of memory")
	if bounded() {
		full := func(ws wire.Workspace) bool {
			return slices.ContainsFunc(ws.Conditions, func(c wire.Condition) bool { return c.Kind == "disk full" })
		}
		w.must(w.as("ingrid", "", "run", "berth-planner", "--", "sh", "-c", "fallocate -l $(($(df --output=avail -B1 . | tail -n 1) - 300000)) x"), 0)
		seen("a full disk", full, time.Now())
		w.must(w.as("ingrid", "", "show", "berth-planner"), 0, "no room left in its folder")
		w.must(w.as("ingrid", "", "run", "berth-planner", "--", "rm", "x"), 0)
		seen("room on the disk", func(ws wire.Workspace) bool { return !full(ws) }, time.Now())
	}
	docker := w.docker()
	defer docker.Close()
	killContainer(t, docker, w.installation())
	ws = seen("a container that ends", inPhase("stopped"), time.Now())
	if hungry(ws) || !strings.Contains(ws.Cause, "137") {
		t.Errorf("it is %+v", ws)
	}
}
