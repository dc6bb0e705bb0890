package rules

import (
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"yardbench/internal/core/secret"
)

// Secrets is what holds for secrets.
type Secrets struct {
	// PullRequests are the levels whose secrets are given to what is launched from a
	// pull request, and Guests those of others' that guests are given: none by itself.
	PullRequests, Guests []secret.Level
	// RemindAfter has people reminded of secrets that are older; 0 of none.
	RemindAfter time.Duration
}

func (d *doc) secrets(n *yaml.Node, s *Secrets) {
	levels := func(to *[]secret.Level, may ...secret.Level) func(*yaml.Node) {
		return func(n *yaml.Node) {
			for _, text := range d.list(n, anyText) {
				if !slices.Contains(may, secret.Level(text)) {
					d.say(n, "write a list of: "+strings.Join(texts(may), ", "), "%q is no level of secrets that can be given there", text)
					continue
				}
				*to = append(*to, secret.Level(text))
			}
		}
	}
	d.mapping(n, "secrets", fields{
		"pull_requests": may(levels(&s.PullRequests, secret.Levels...)),
		"guests":        may(levels(&s.Guests, secret.OfRepository, secret.OfTeam, secret.OfHouse)),
		"remind_after":  may(func(n *yaml.Node) { s.RemindAfter = d.duration(n, 24*time.Hour) }),
	})
}

// Levels are those whose secrets somebody's workspace is given.
func (s Secrets) Levels(guest, pullRequest bool) []secret.Level {
	out := slices.Clone(secret.Levels)
	if guest {
		out = slices.DeleteFunc(out, func(l secret.Level) bool { return l != secret.OfPerson && !slices.Contains(s.Guests, l) })
	}
	if pullRequest {
		out = slices.DeleteFunc(out, func(l secret.Level) bool { return !slices.Contains(s.PullRequests, l) })
	}
	return out
}

func texts(levels []secret.Level) (out []string) {
	for _, l := range levels {
		out = append(out, string(l))
	}
	return out
}

func (s Secrets) values(v map[string]string) {
	for path, levels := range map[string][]secret.Level{"secrets.pull_requests": s.PullRequests, "secrets.guests": s.Guests} {
		if len(levels) > 0 {
			v[path] = strings.Join(texts(levels), ", ")
		}
	}
	if s.RemindAfter > 0 {
		v["secrets.remind_after"] = Duration(s.RemindAfter)
	}
}
