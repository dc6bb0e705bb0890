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
