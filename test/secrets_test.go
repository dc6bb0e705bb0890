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
	ws, err := c.Workspaces.Show(t.Context(), "quay")
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
