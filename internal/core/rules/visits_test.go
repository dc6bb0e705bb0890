package rules

import (
	"strings"
	"testing"
	"time"
)

// What may be shown, and what is recorded, is closed until the document says so.
func TestShownAndRecorded(t *testing.T) {
	for text, want := range map[string]Rules{
		"":                              {},
		"ports: {look_links_most: 2 h}": {Ports: Ports{LookLinksMost: 2 * time.Hour}},
		"ports: {public_most: 3 days}\nterminals: {recording: asked}": {Ports: Ports{PublicMost: 72 * time.Hour}, Terminals: Terminals{RecordAsked, 30 * 24 * time.Hour}},
		"terminals: {recording: always, recordings_most: 90 days}":    {Terminals: Terminals{RecordAlways, 90 * 24 * time.Hour}},
	} {
		r := parsed(t, First+"\n"+text+"\n")
		if r.Ports != want.Ports || r.Terminals != want.Terminals {
			t.Errorf("%q is read as %+v %+v", text, r.Ports, r.Terminals)
		}
		if changes := strings.Join(Diff(parsed(t, First), r), " "); (changes == "") != (text == "") {
			t.Errorf("%q changes %q", text, changes)
		}
	}
	for _, wrong := range []string{"ports: {look_links: 2 h}", "ports: {public_most: 10 s}", "ports: {public_most: x}", "terminals: {recording: yes}", "terminals: {recording: asked, recordings_most: 1 min}", "terminals: x"} {
		if _, findings := Parse([]byte(First + "\n" + wrong + "\n")); len(findings) != 1 || findings[0].Line < 30 {
			t.Errorf("%q is found %v", wrong, findings)
		}
	}
}
