package rules

import (
	"time"

	"go.yaml.in/yaml/v4"
)

// Ports is how ports may be shown to people who are not signed in. It is closed where
// nothing is said.
type Ports struct {
	LookLinksMost time.Duration // the longest time of a look link; 0 closes them
	PublicMost    time.Duration // the longest time that a port may be public; 0 closes it
}

func (d *doc) ports(n *yaml.Node, p *Ports) {
	span := func(to *time.Duration) field {
		return may(func(n *yaml.Node) { *to = d.duration(n, time.Minute) })
	}
	d.mapping(n, "ports", fields{"look_links_most": span(&p.LookLinksMost), "public_most": span(&p.PublicMost)})
}

func (p Ports) values(v map[string]string) {
	for at, most := range map[string]time.Duration{"ports.look_links_most": p.LookLinksMost, "ports.public_most": p.PublicMost} {
		if most > 0 {
			v[at] = Duration(most)
		}
	}
}

// Recording is when terminals are recorded; "" is never.
type Recording string

// The ways.
const (
	RecordAsked  Recording = "asked"  // as their owners ask
	RecordAlways Recording = "always" // all of them
)

// RecordingsUsual is how long recordings are kept where nothing is said.
const RecordingsUsual = 30 * 24 * time.Hour

// Terminals is what holds for terminals.
type Terminals struct {
	Recording      Recording
	RecordingsMost time.Duration // so long recordings are kept
}

func (d *doc) terminals(n *yaml.Node, t *Terminals) {
	t.RecordingsMost = RecordingsUsual
	d.mapping(n, "terminals", fields{
		"recording": may(func(n *yaml.Node) {
			switch r := Recording(d.text(n)); r {
			case RecordAsked, RecordAlways:
				t.Recording = r
			default:
				d.say(n, "write asked or always, or leave it out", "%q is no way to record terminals", n.Value)
			}
		}),
		"recordings_most": may(func(n *yaml.Node) { t.RecordingsMost = d.duration(n, time.Hour) }),
	})
}

func (t Terminals) values(v map[string]string) {
	if t.Recording != "" {
		v["terminals.recording"], v["terminals.recordings_most"] = string(t.Recording), Duration(t.RecordingsMost)
	}
}
