package test

import (
	"bytes"
	"strconv"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/cast"
	"yardbench/wire"
)

// recorded is what a recording shows.
func recorded(t *testing.T, w *world, who, id string) (out string) {
	t.Helper()
	var file bytes.Buffer
	if err := w.client(who).Recordings.Read(t.Context(), id, &file); err != nil {
		t.Fatal(err)
	}
	if file.Len() == 0 {
		return ""
	}
	if _, err := cast.Read(&file, func(e cast.Event) error {
		if e.Kind == cast.Output {
			out += e.Text
		}
		return nil
	}); err != nil {
		t.Fatalf("it is no recording: %v", err)
	}
	return out
}

// A terminal is recorded where its owner asks, and everybody at it is told; the service
// is killed meanwhile, and nothing is missing. Where the house rules have it, every
// terminal is, from its beginning, and auditors see it.
func TestRecordings(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	ingrid := w.client("ingrid")
	put := w.putRules
	put("")
	mine := watch(t, ingrid, "quay", wire.Run{Columns: 91, Rows: 33, Typist: "me"})
	mine.types("stty -echo; PS1=; echo before-$((1+1))\n")
	mine.until("a shell", func(out, _ string) bool { return strings.Contains(out, "before-2") })
	w.must(w.as("ingrid", "", "recording", "begin", "quay"), 4, "the house rules have no terminals recorded")
	put("\nterminals: {recording: asked}\n")
	w.must(w.as("ingrid", "", "recording", "begin", "quay", "--terminal", "none"), 3, "none")
	w.must(w.as("mats", "", "recording", "begin", "quay.ingrid"), 3, "quay")
	w.must(w.as("ingrid", "", "recording", "begin", "quay"), 0, "is recorded as")
	all, err := ingrid.Recordings.List(t.Context())
	if err != nil || len(all) != 1 || !all[0].Asked || all[0].EndedAt != nil {
		t.Fatalf("they are %+v, %v", all, err)
	}
	id := all[0].ID
	w.must(w.as("ingrid", "", "terminal", "list", "quay"), 0, "yes")
	mine.types("for i in $(seq 40); do echo line-$((i*i)); sleep 0.1; done; echo over-$((6*6))\n")
	mine.until("the first", func(out, _ string) bool { return strings.Contains(out, "line-16\r\n") })
	w.kill()
	time.Sleep(slack * time.Second)
	w.start()
	ingrid = w.client("ingrid")
	has := func(who, id, what string) string {
		t.Helper()
		for end := time.Now().Add(slack * 20 * time.Second); ; time.Sleep(100 * time.Millisecond) {
			out := recorded(t, w, who, id)
			if strings.Contains(out, what) {
				return out
			}
			if time.Now().After(end) {
				t.Fatalf("it shows %q", out)
			}
		}
	}
	out := has("ingrid", id, "over-36")
	for i := 1; i <= 40; i++ {
		if n := strings.Count(out, "line-"+strconv.Itoa(i*i)+"\r\n"); n != 1 {
			t.Errorf("line %d is there %d times", i, n)
		}
	}
	if strings.Contains(out, "before-2") {
		t.Error("it has what was printed before")
	}
	w.must(w.as("ingrid", "", "recording", "show", id, "--times", "50"), 0, "over-36")
	for _, who := range []string{"mats", "astrid", "audun"} {
		w.must(w.as(who, "", "recording", "show", id), 3, "recording")
	}
	w.must(w.as("ingrid", "", "recording", "remove", id), 4, "it goes on")
	w.must(w.as("ingrid", "", "recording", "end", id), 0, "its owner ended it")
	w.must(w.as("ingrid", "", "recording", "remove", id), 0)
	w.must(w.as("ingrid", "", "recording", "show", id), 3)

	put("\nterminals: {recording: always}\n")
	ssh := w.shellOf(t, "ingrid").run("", "ssh", "-tt", "quay.bench", "echo by-$((7*7))")
	if !strings.Contains(ssh.out+ssh.errors, "is recorded") || !strings.Contains(ssh.out, "by-49") {
		t.Errorf("by SSH it says %q %q", ssh.out, ssh.errors)
	}
	fresh := watch(t, ingrid, "quay", wire.Run{Argv: []string{"sh", "-c", "echo first-$((3*3))"}, TTY: true, Terminal: "third", Columns: 80, Rows: 24})
	fresh.until("a command", func(out, _ string) bool { return strings.Contains(out, "first-9") })
	ids := map[string]string{}
	for end := time.Now().Add(slack * 10 * time.Second); len(ids) < 2 && time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		if all, err = w.client("audun").Recordings.List(t.Context()); err != nil {
			t.Fatal(err)
		}
		for _, r := range all {
			ids[r.Terminal] = r.ID
		}
	}
	if len(ids) != 2 || ids["third"] == "" {
		t.Fatalf("there are %v", ids)
	}
	for label, id := range ids {
		has("audun", id, map[bool]string{true: "first-9", false: "by-49"}[label == "third"])
		w.must(w.as("ingrid", "", "recording", "remove", id), 4, "house rules")
	}
	w.must(w.as("astrid", "", "recording", "show", ids["third"]), 3)
	w.must(w.as("audun", "", "journal", "list", "--json"), 0, "workspace.recording-begun", "workspace.recording-ended", "workspace.recording-seen", "workspace.recording-removed")
}
