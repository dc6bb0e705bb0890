package rules

import (
	"strings"
	"time"

	"go.yaml.in/yaml/v4"
)

// Announcement is what the house tells everybody who comes to its door, signed in or not,
// and what is not begun meanwhile. The zero value is none. It may end by itself.
type Announcement struct {
	Text   string // one line, at most announcementMost letters
	Pauses Pause
}

// Pause is what is not begun while an announcement stands, but by operators.
type Pause string

// What can be paused. What runs goes on in each case.
const (
	PauseNothing  Pause = ""
	PauseLaunches Pause = "launches" // nothing new is launched or prepared
	PauseStarts   Pause = "starts"   // nor is anything started or rebuilt
	PauseChanges  Pause = "changes"  // nor is anything else changed: what there is is looked at and worked in
)

const (
	announcementMost = 240
	ofAnnouncement   = "announcement"
)

// Launches tells whether nothing new may be launched.
func (p Pause) Launches() bool { return p != PauseNothing }

// Starts tells whether nothing may be started.
func (p Pause) Starts() bool { return p == PauseStarts || p == PauseChanges }

// Changes tells whether nothing may be changed.
func (p Pause) Changes() bool { return p == PauseChanges }

func (a *Announcement) read(d *doc, n *yaml.Node) {
	d.mapping(n, ofAnnouncement, fields{
		"text": need(func(n *yaml.Node) {
			if a.Text = strings.TrimSpace(d.text(n)); a.Text == "" || strings.ContainsAny(a.Text, "\n\r") || len([]rune(a.Text)) > announcementMost {
				d.say(n, "write one line of at most 240 letters", "this cannot be announced")
			}
		}),
		"pauses": may(func(n *yaml.Node) {
			switch p := Pause(d.text(n)); p {
			case PauseLaunches, PauseStarts, PauseChanges:
				a.Pauses = p
			default:
				d.say(n, "write launches, starts or changes, or leave it out", "%q cannot be paused", p)
			}
		}),
		"until": until(d, ofAnnouncement),
	})
}

// AnnouncedUntil is when the announcement ends by itself; the zero time for never.
func (r Rules) AnnouncedUntil() time.Time { return r.Ends[ofAnnouncement] }

func (a Announcement) values(v map[string]string) {
	if a.Text == "" {
		return
	}
	v[ofAnnouncement+".text"] = a.Text
	if a.Pauses != PauseNothing {
		v[ofAnnouncement+".pauses"] = string(a.Pauses)
	}
}
