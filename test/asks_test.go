package test

import (
	"strings"
	"testing"
	"time"

	"yardbench/wire"
)

// A program asks for a secret by name, and goes on when its owner gives it: in set-up,
// in a run, over a restart of the service. What is written down of it meanwhile does not
// hold the value, and what nobody can give is refused at once.
func TestProgramsAskForSecrets(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	c := w.client("ingrid")
	const gauge, lamp = "the-gauge-value-1", "the-lamp-value-1"
	w.push("tide-board", "main", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew",
		"postCreateCommand": {"one": "echo It is $(yardbench-secret GAUGE_KEY --for 'reads the gauges').", "two": "echo beside it"}}`})
	launched := make(chan result, 1)
	go func() { launched <- w.as("ingrid", "", "launch", "tide-board", "--name", "quay") }()
	asks := func(ref, name string) func(wire.Workspace) bool {
		return func(ws wire.Workspace) bool {
			return strings.Contains(condition(ws, "secret asked"), name) && len(ws.Asks) > 0 && ws.Asks[0].Name == name
		}
	}
	w.until(c, "quay", 60*time.Second, asks("quay", "GAUGE_KEY"))
	w.must(w.as("ingrid", "", "show", "quay"), 0, "a program in it waits for GAUGE_KEY", "nobody gives it", `the program says: "reads the gauges"`, "yardbench secret put GAUGE_KEY --for tide-board")
	w.must(w.as("ingrid", gauge, "secret", "put", "GAUGE_KEY", "--for", "tide-board"), 0)
	w.must(<-launched, 0, "is ready")
	log := w.must(w.as("ingrid", "", "logs", "quay"), 0, "one | It is [secret GAUGE_KEY].", "waits for GAUGE_KEY: give it on the page of quay")
	w.until(c, "quay", 10*time.Second, func(ws wire.Workspace) bool { return condition(ws, "secret asked") == "" && len(ws.Asks) == 0 })

	// It outlives the service, and several are asked for at once.
	ran := make(chan result, 1)
	go func() {
		ran <- w.as("ingrid", "", "run", "quay", "--", "yardbench-secret", "GAUGE_KEY", "LAMP_KEY", "--", "sh", "-c", `echo "$GAUGE_KEY and $LAMP_KEY"; exit 7`)
	}()
	w.until(c, "quay", 20*time.Second, asks("quay", "LAMP_KEY"))
	w.kill()
	w.start()
	c = w.client("ingrid")
	w.until(c, "quay", 20*time.Second, asks("quay", "LAMP_KEY"))
	w.must(w.as("ingrid", lamp, "secret", "put", "LAMP_KEY", "--for", "tide-board"), 0)
	if r := <-ran; r.code != 7 || !strings.Contains(r.out, gauge+" and "+lamp) {
		t.Errorf("the program that waited ended with %v", r)
	}
	w.until(c, "quay", 10*time.Second, func(ws wire.Workspace) bool { return condition(ws, "secret asked") == "" })

	// What runs for long has it as it is now, as the variable has not.
	w.must(w.as("ingrid", lamp+"+", "secret", "put", "LAMP_KEY"), 0, "version 2")
	run := func(code int, script string, words ...string) string {
		t.Helper()
		return w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", script), code, words...)
	}
	run(0, "LAMP_KEY=old; yardbench-secret LAMP_KEY", lamp+"+")
	run(0, `sudo -n true 2>/dev/null || exit 0; sudo /run/yardbench/bin/yardbench-secret LAMP_KEY`)
	run(1, "yardbench-secret --now NO_KEY", "NO_KEY is not given here: nobody gives it")
	run(1, "yardbench-secret --wait 1s NO_KEY", "nobody has given NO_KEY so far")
	run(1, "yardbench-secret PATH", "PATH")
	run(1, "yardbench-secret '../x'", "name")
	run(2, "yardbench-secret", "prints the value")
	run(2, "yardbench-secret A B", "prints the value")
	run(0, "yardbench-secret --help", "runs a program that has them as variables")
	run(127, "yardbench-secret LAMP_KEY -- no-such-program", "no-such-program")
	// One that goes away waits no longer.
	run(0, "timeout 2 yardbench-secret GONE_KEY; true")
	w.until(c, "quay", 40*time.Second, func(ws wire.Workspace) bool { return condition(ws, "secret asked") == "" && len(ws.Asks) == 0 })
	// A secret of a build is in no process, asked for or not.
	w.must(w.as("runa", "the-build-value", "secret", "put", "BUILD_KEY", "--of-repository", "tide-board", "--for-builds"), 0)
	run(1, "yardbench-secret --now BUILD_KEY", "for the builds of images alone")

	w.must(w.as("ingrid", "", "journal", "list", "--workspace", "quay", "--kind", "workspace.secret"), 0, "LAMP_KEY", "GAUGE_KEY")
	ws, err := c.Workspaces.Show(t.Context(), "quay")
	if err != nil {
		t.Fatal(err)
	}
	w.nowhere(t, ws.ID, log, gauge, lamp)
}
