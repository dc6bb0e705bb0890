package rules

import (
	"strings"
	"testing"
	"time"
)

// An announcement is read, compared and ends by itself, with what it pauses.
func TestAnnouncement(t *testing.T) {
	with := func(more string) string { return First + "\n" + more }
	for text, want := range map[string]Announcement{
		"announcement: {text: The yard is moved on Saturday.}":                   {Text: "The yard is moved on Saturday."},
		"announcement: {text: The yard is moved., pauses: launches}":             {Text: "The yard is moved.", Pauses: PauseLaunches},
		"announcement: {text: Moved., pauses: starts, until: 2026-12-05}":        {Text: "Moved.", Pauses: PauseStarts},
		"announcement: {text: Moved., pauses: changes}":                          {Text: "Moved.", Pauses: PauseChanges},
		"announcement:\n  text: >-\n    of two\n    lines\n  pauses: launches\n": {Text: "of two lines", Pauses: PauseLaunches},
	} {
		r, findings := Parse([]byte(with(text)))
		if len(findings) > 0 || r.Announcement != want {
			t.Errorf("%q is %+v, %v", text, r.Announcement, findings)
		}
	}
	for text, says := range map[string]string{
		"announcement: {pauses: launches}":                         "text",
		"announcement: {text: ' '}":                                "cannot be announced",
		"announcement: {text: \"a\\nb\"}":                          "cannot be announced",
		"announcement: {text: " + strings.Repeat("long", 61) + "}": "cannot be announced",
		"announcement: {text: a, pauses: everything}":              `"everything" cannot be paused`,
		"announcement: {text: a, until: soon}":                     "no day",
		"announcement: {text: a, stops: starts}":                   "not known",
		"announcement: moved":                                      "announcement",
	} {
		if _, findings := Parse([]byte(with(text))); len(findings) != 1 || !strings.Contains(findings[0].What+" "+findings[0].Fix, says) {
			t.Errorf("%q is told %+v, want %q", text, findings, says)
		}
	}
	r, _ := Parse([]byte(with("announcement: {text: Moved., pauses: starts, until: 2026-12-05T12:00:00Z}")))
	end := time.Date(2026, 12, 5, 12, 0, 0, 0, time.UTC)
	if is, next := r.At(end.Add(-time.Second)); is.Announcement.Text != "Moved." || !next.Equal(end) || !r.AnnouncedUntil().Equal(end) {
		t.Errorf("before its end it is %+v, and ends %s", is.Announcement, next)
	}
	if is, next := r.At(end); is.Announcement != (Announcement{}) || !next.IsZero() || is.Ended != 1 {
		t.Errorf("after it it is %+v, next %s", is.Announcement, next)
	}
	none, _ := Parse([]byte(First))
	if got := strings.Join(Diff(none, r), "; "); !strings.Contains(got, "announcement.pauses: none → starts") || !strings.Contains(got, "announcement.text: none → Moved.") || !strings.Contains(got, "announcement.until: none → 2026-12-05T12:00:00Z") {
		t.Errorf("the change is told as %q", got)
	}
	for p, want := range map[Pause][2]bool{PauseNothing: {false, false}, PauseLaunches: {true, false}, PauseStarts: {true, true}} {
		if got := [2]bool{p.Launches(), p.Starts()}; got != want {
			t.Errorf("%q pauses %v", p, got)
		}
	}
}
