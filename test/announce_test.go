package test

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// What the house announces is told to everybody at the door, signed in or not; what it
// pauses is refused beforehand and as it is asked, but to operators; what runs goes on, and
// it is over by itself.
func TestAnnouncedAndPaused(t *testing.T) {
	w := simWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board"), 0, "is ready")
	w.must(w.as("ingrid", "", "launch", "fare-desk"), 0, "is ready")
	w.must(w.as("ingrid", "", "stop", "fare-desk"), 0)
	announce := func(more string) {
		t.Helper()
		w.rules("time_zone: Europe/Oslo", "time_zone: Europe/Oslo\nannouncement: {text: The yard is moved on Saturday., "+more+"}")
	}
	announce("pauses: launches")
	w.must(w.as("ingrid", "", "list"), 0, "The yard is moved on Saturday. (nothing new is launched)")
	w.must(w.as("ingrid", "", "launch", "tide-board", "--dry-run"), 8, "nothing is launched or prepared now: The yard is moved on Saturday.")
	w.must(w.as("ingrid", "", "launch", "tide-board"), 8, "an operator says when it goes on")
	w.must(w.as("runa", "", "prebuild", "put", "tide-board", "--keep", "1"), 0)
	w.must(w.as("runa", "", "prebuild", "run", "tide-board"), 8, "nothing is launched or prepared now")
	w.must(w.as("ingrid", "", "start", "fare-desk"), 0, "is ready")
	w.must(w.as("ingrid", "", "stop", "fare-desk"), 0)
	announce("pauses: starts, until: " + time.Now().Add(20*time.Minute).UTC().Format(time.RFC3339))
	w.must(w.as("ingrid", "", "list"), 0, "(nothing is launched or started, until ")
	w.must(w.as("ingrid", "", "start", "fare-desk"), 8, "nothing is launched, prepared, started or rebuilt now", "it goes on by itself after ")
	w.must(w.as("ingrid", "", "rebuild", "tide-board"), 8, "started or rebuilt")
	w.must(w.as("ingrid", "", "run", "tide-board", "--", "true"), 0)
	w.must(w.as("astrid", "", "launch", "tide-board", "--name", "trial"), 0, "is ready")
	announce("pauses: changes")
	w.must(w.as("ingrid", "", "list"), 0, "(nothing is changed; what runs is worked in)")
	w.must(w.as("ingrid", "x", "secret", "put", "KEY", "--everywhere"), 8, "nothing is changed now: The yard is moved on Saturday.", "use what runs")
	w.must(w.as("ingrid", "", "launch", "tide-board", "--dry-run"), 8, "nothing is changed now")
	w.must(w.as("ingrid", "", "remove", "fare-desk", "--yes"), 8, "nothing is changed now")
	w.must(w.as("ingrid", "", "run", "tide-board", "--", "true"), 0)
	w.must(w.as("ingrid", "", "definition", "check", "tide-board"), 0)
	w.must(w.as("ingrid", "", "stop", "tide-board"), 0)
	w.must(w.as("ingrid", "", "sign-out"), 0)
	delete(w.config, "ingrid") // who signs in anew
	w.must(w.as("astrid", "", "start", "tide-board.ingrid"), 0)
	announce("pauses: starts, until: " + time.Now().Add(20*time.Minute).UTC().Format(time.RFC3339))
	p := openPage(t)
	p.do("it is told at the sign-in", chromedp.Navigate(w.address), seen("#name"), p.says("The yard is moved on Saturday."), p.says("Nothing is launched or started until"))
	p = w.page(t, "ingrid")
	p.do("and over every page", p.says("The yard is moved on Saturday."), p.says("what runs goes on"))
	until := time.Now().Add(2 * time.Second).UTC()
	announce("pauses: starts, until: " + until.Format(time.RFC3339))
	time.Sleep(time.Until(until))
	w.must(w.as("ingrid", "", "start", "fare-desk"), 0, "is ready")
	if out := w.must(w.as("ingrid", "", "list"), 0); !strings.HasPrefix(out, "NAME") {
		t.Errorf("it is announced still:\n%s", out)
	}
}
