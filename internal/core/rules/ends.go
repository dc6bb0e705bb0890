package rules

import (
	"fmt"
	"maps"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"
)

// Named is a person, a team or a repository that the document names: nothing in
// it tells whether there is one.
type Named struct {
	Kind         string // person, team or repository
	Name         string
	Path         string // of what is said of it, as in [Rules.Ends]; may be empty
	Line, Column int
}

// Places of what may end by itself.
const (
	ofPeople       = "limits.people."
	ofTeams        = "limits.teams."
	ofRepositories = "allow.repositories."
)

// until is the field of something that may end by itself: the day, which counts
// whole in the house's zone, or the time. It is read once the zone is known.
func until(d *doc, path string) field {
	return may(func(n *yaml.Node) { d.ends = append(d.ends, ending{path, n}) })
}

type ending struct {
	path string
	at   *yaml.Node
}

// readEnds reads when things end.
func readEnds(d *doc, r *Rules) {
	for _, e := range d.ends {
		s := d.text(e.at)
		zone := r.Zone
		if zone == nil {
			zone = time.UTC
		}
		at, err := time.ParseInLocation(time.DateOnly, s, zone)
		if err == nil {
			at = at.AddDate(0, 0, 1)
		} else if at, err = time.Parse(time.RFC3339, s); err != nil {
			d.say(e.at, "write a day like 2027-01-31, which counts whole, or a time like 2027-01-31T12:00:00Z", "%q is no day", s)
			continue
		}
		if r.Ends == nil {
			r.Ends = map[string]time.Time{}
		}
		r.Ends[e.path] = at
	}
}

// At is the rules as they are at a time: without what has ended by then. Next is when
// something ends after it; zero is never.
func (r Rules) At(now time.Time) (is Rules, next time.Time) {
	is = r
	is.Ended = 0
	for path, at := range r.Ends {
		if now.Before(at) {
			if next.IsZero() || at.Before(next) {
				next = at
			}
			continue
		}
		is.Ended++
		if name, ok := strings.CutPrefix(path, ofPeople); ok {
			is.Limits.People = without(is.Limits.People, name)
		} else if name, ok := strings.CutPrefix(path, ofTeams); ok {
			is.Limits.Teams = without(is.Limits.Teams, name)
		} else if name, ok := strings.CutPrefix(path, ofRepositories); ok {
			is.AllowIn = without(is.AllowIn, name)
		} else if path == ofAnnouncement {
			is.Announcement = Announcement{}
		}
	}
	return is, next
}

func without[V any](m map[string]V, name string) map[string]V {
	m = maps.Clone(m)
	delete(m, name)
	return m
}

// endValues flattens what Diff compares.
func (r Rules) endValues(v map[string]string) {
	for path, at := range r.Ends {
		text := at.UTC().Format(time.RFC3339)
		if r.Zone != nil {
			if day := at.In(r.Zone); day.Hour() == 0 && day.Minute() == 0 && day.Second() == 0 {
				text = fmt.Sprintf("the end of %s", day.AddDate(0, 0, -1).Format(time.DateOnly))
			}
		}
		v[path+".until"] = text
	}
}
