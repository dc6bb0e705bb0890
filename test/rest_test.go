package test

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"yardbench/wire"
)

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
	s, err := c.Workspaces.Open(t.Context(), "left", wire.Run{Columns: 80, Rows: 24})
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
	b, err := c.Workspaces.Open(t.Context(), "busy", wire.Run{Columns: 80, Rows: 24})
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
	if ws, _ := c.Workspaces.Show(t.Context(), "held"); ws.Rest == nil || ws.Rest.HeldUntil == nil || condition(ws, "held") == "" || condition(ws, "idle") == "" {
		t.Errorf("held it is %+v", ws)
	}
	w.must(w.as("ingrid", "", "hold", "held", "--end"), 0)
	w.until(c, "held", 10*time.Second, inPhase("stopped"))
	w.must(w.as("ingrid", "", "start", "left"), 0)
	w.must(w.as("ingrid", "", "run", "left", "--", "cat", "note.txt"), 0, "precious")
	journal := w.must(w.as("ingrid", "", "journal", "list", "--workspace", "left", "--kind", "workspace.rested"), 0, "put to rest")
	if strings.Count(journal, "workspace.rested") != 1 {
		t.Errorf("it was put to rest more than once:\n%s", journal)
	}
}
