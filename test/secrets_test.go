package test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"yardbench/internal/demo"
	"yardbench/wire"
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

	s, err := c.Workspaces.Open(t.Context(), "quay", wire.Run{Terminal: "old", Columns: 80, Rows: 24})
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
	w.must(w.as("ingrid", "", "secret", "remove", "KEY", "--yes"), 0)
	w.must(w.as("ingrid", changed, "secret", "put", "KEY", "--for", "tide-board"), 0, "version 1")
	w.until(c, "quay", 10*time.Second, func(ws wire.Workspace) bool {
		return strings.Contains(condition(ws, "secrets changed"), "terminal old") && !strings.Contains(condition(ws, "secrets changed"), "run ")
	})
	if err := s.Send('i', []byte("exit\n")); err != nil {
		t.Fatal(err)
	}
	w.until(c, "quay", 10*time.Second, func(ws wire.Workspace) bool { return condition(ws, "secrets changed") == "" })
	w.must(w.as("runa", "", "secret", "remove", "PEM", "--yes", "--of-repository", "tide-board"), 0)
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", `test -d /run/yardbench/secrets && test ! -e /run/yardbench/secrets/PEM && test -z "$PEM_FILE"`), 0)
	// Of the levels the nearest counts, on the branches that were said.
	const team, all = "the-team-value-1", "the-value-of-all-1"
	w.must(w.as("astrid", all, "secret", "put", "CHART", "--of-house", "--everywhere"), 0, "set for everybody")
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "echo CHART is $CHART"), 0, "CHART is "+all)
	w.must(w.as("runa", team, "secret", "put", "CHART", "--of-team", "Timetable", "--for", "tide-board"), 0, "everybody of Timetable in tide-board")
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "echo CHART is $CHART"), 0, "CHART is "+team)
	w.must(w.as("runa", team, "secret", "put", "CHART", "--of-team", "Timetable", "--branch", "release/*"), 0, "on release/*")
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "echo CHART is $CHART"), 0, "CHART is "+all)
	w.must(w.as("ingrid", "", "secret", "explain", "--in", "quay", "CHART"), 0, "for branches like release/*, and this is main", "the house's, for all repositories")
	w.must(w.as("ingrid", "", "secret", "explain", "tide-board", "CHARTS"), 0, "is it CHART?")
	w.must(w.as("mats", "", "secret", "list", "--of-team", "Timetable"), 3, "no team")
	// A file stands at its place at once, and is gone at once: seen by what runs all along.
	seen := make(chan string)
	go func() {
		seen <- w.as("ingrid", "", "run", "quay", "--", "sh", "-c", `cd ~; for i in $(seq 90); do cat .config/boat/key 2>/dev/null && stat -Lc ' %U %a' .config/boat/key || echo none; sleep 0.1; done; ls -a .config/boat`).out
	}()
	for _, step := range [][]string{{mine, "secret", "put", "BOAT", "--everywhere", "--at", "~/.config/boat/key", "--mode", "0440"}, {changed, "secret", "put", "BOAT"}, {"", "secret", "remove", "BOAT", "--yes"}} {
		time.Sleep(2 * time.Second) // seen in between
		w.must(w.as("ingrid", step[0], step[1:]...), 0)
	}
	if out := <-seen; !regexp.MustCompile(`(?s)^(none\n)+(` + mine + ` crew 440\n)+(none\n)*(` + changed + ` crew 440\n)+(?:` + changed + `)?(none\n){10,}\.\n\.\.\n$`).MatchString(out) {
		t.Errorf("what runs all along sees\n%s", out)
	}
	// One may be another user's of the image; where there is none such it is the workspace's.
	w.must(w.as("ingrid", mine, "secret", "put", "MAST", "--everywhere", "--as-file", "--owner", "daemon", "--mode", "0440"), 0)
	w.must(w.as("ingrid", mine, "secret", "put", "KEEL", "--everywhere", "--as-file", "--owner", "nobody-such"), 0)
	w.must(w.as("ingrid", mine, "secret", "put", "HULL", "--everywhere", "--as-file", "--owner", "a b"), 4, "no user of an image")
	w.must(w.as("ingrid", mine, "secret", "put", "HULL", "--everywhere", "--owner", "daemon"), 4, "only a file has")
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "stat -Lc '%U %a' $MAST_FILE $KEEL_FILE"), 0, "daemon 440\ncrew 400")
	w.must(w.as("ingrid", mine, "secret", "put", "MAST", "--owner", ""), 0)
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "stat -Lc '%U %a' $MAST_FILE"), 0, "crew 440")
	// What stands at its place stays, and a folder that leads out of the home folder is not followed; what is begun has it by its variable.
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "mkdir -p ~/.own && echo own > ~/.own/key; mkdir -p /workspaces/tide-board/.out && ln -s /workspaces/tide-board/.out ~/.out"), 0)
	w.must(w.as("ingrid", mine, "secret", "put", "OAR", "--everywhere", "--at", "~/.own/key"), 0)
	w.must(w.as("ingrid", mine, "secret", "put", "SAIL", "--everywhere", "--at", "~/.out/key"), 0)
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "cat ~/.own/key; ls -A ~/.out/; cat $OAR_FILE $SAIL_FILE"), 0, "own\n"+mine+mine)
	ws, err := c.Workspaces.Show(t.Context(), "quay")
	if err != nil {
		t.Fatal(err)
	}
	w.nowhere(t, ws.ID, w.must(w.as("ingrid", "", "logs", "quay"), 0), mine, house, changed, team, all)
}

func condition(ws wire.Workspace, kind string) string {
	for _, c := range ws.Conditions {
		if c.Kind == kind {
			return c.Reason
		}
	}
	return ""
}

// Nothing is launched without a secret that its definition requires, and everything with it.
func TestRequiredSecrets(t *testing.T) {
	t.Parallel()
	w := simWorld(t)
	define := func(secrets string) {
		w.push("tide-board", "main", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew", ` + secrets + `"customizations": {"yardbench": {"requiredSecrets": ["GAUGE_KEY"]}}}`})
	}
	define("")
	w.must(w.as("ingrid", "", "launch", "tide-board"), 4, "required, and secrets does not ask for it")
	define(`"secrets": {"GAUGE_KEY": {"description": "reads the gauges"}, "OTHER": {}}, `)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 4, "requires GAUGE_KEY", "yardbench secret put GAUGE_KEY")
	w.must(w.as("ingrid", "", "secret", "explain", "tide-board", "GAUGE_KEY"), 0, "required", "reads the gauges")
	w.must(w.as("ingrid", "x", "secret", "put", "GAUGE_KEY", "--for", "tide-board", "--branch", "release/*"), 0)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 4, "requires GAUGE_KEY")
	w.must(w.as("ingrid", "x", "secret", "put", "GAUGE_KEY", "--branch", ""), 0)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
}
