package test

import (
	"strings"
	"testing"
	"time"

	"yardbench/internal/demo"
	"yardbench/wire"
)

// guest brings in a guest of Timetable.
func (w *world) guest(name string, until time.Time, repositories ...string) {
	w.t.Helper()
	c := w.client("runa")
	e, err := c.Guests.Invite(w.t.Context(), wire.NewGuest{Team: "Timetable", Until: until, Repositories: repositories})
	if err != nil {
		w.t.Fatal(err)
	}
	_, key, _ := strings.Cut(e.Link, "#")
	if _, err := c.People.UseEnrolment(w.t.Context(), wire.EnrolmentUse{Key: key, Name: name, FullName: "Tormod Vik", Email: name + "@elsewhere.example", Password: demo.Password}); err != nil {
		w.t.Fatal(err)
	}
}

// A guest works in what was named until their time is over. Then a terminal that is
// open ends within two seconds, their workspace is stopped and kept, and the lead of
// their team lets them in again.
func TestGuestsTime(t *testing.T) {
	t.Parallel()
	w := simWorld(t)
	began := time.Now()
	w.guest("tormod", began.Add(20*time.Second), "tide-board")
	w.must(w.as("runa", "", "guest", "list"), 0, "tormod", "tide-board", "every size", "runa")
	w.must(w.as("mats", "", "guest", "list"), 4)
	w.must(w.as("tormod", "", "launch", "fare-desk"), 3, "no repository")
	w.must(w.as("tormod", "", "repository", "list"), 0, "tide-board")
	w.must(w.as("tormod", "", "person", "list"), 4)
	w.must(w.as("tormod", demo.GitToken("ingrid"), "credential", "put", strings.TrimPrefix(w.git, "http://"), "--username", "ingrid"), 0)
	w.must(w.as("tormod", "", "launch", "tide-board", "--name", "visit"), 0)
	c := w.client("tormod")
	terminal, err := c.Workspaces.Open(t.Context(), "visit", wire.Run{Terminal: "main", Columns: 80, Rows: 24})
	if err != nil {
		t.Fatal(err)
	}
	defer terminal.Close()
	for err == nil {
		_, _, err = terminal.Receive()
	}
	if took := time.Since(began); took < 20*time.Second || took > 23*time.Second {
		t.Errorf("the terminal of somebody whose access is 20 s ended after %s: %v", took, err)
	}
	w.must(w.as("tormod", "", "list"), 5)
	runa := w.client("runa")
	w.until(runa, "visit.tormod", 10*time.Second, func(ws wire.Workspace) bool { return ws.Phase == "stopped" })
	w.must(w.as("runa", "", "guest", "end", "tormod", "--yes"), 0)
	w.must(w.as("runa", "", "guest", "extend", "tormod", "--until", "48h"), 0, "until", "in tide-board")
	w.must(w.as("runa", "", "journal", "list"), 0, "guest.put", "guest.ending")
	if me, err := runa.Self.Me(t.Context()); err != nil || len(me.EndingGuests) != 1 {
		t.Errorf("the lead is told of %+v, %v", me.EndingGuests, err)
	}
	w.config["tormod"] = "" // signed in anew
	w.must(w.as("tormod", "", "start", "visit"), 0)
}
