package rules

import (
	"regexp"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"yardbench/internal/core/policy"
)

// Ends is when a sign-in ends: so long after it began, and so long after it was used
// last, to the nearest ten minutes. Without a time it never was idle for too long.
type Ends struct {
	Longest, Idle time.Duration
}

// The usual ends of sign-ins.
var (
	consoleEnds = Ends{Longest: 12 * time.Hour}
	commandEnds = Ends{Longest: 30 * 24 * time.Hour}
)

// leastIdle is the shortest time without use that can be asked for: when a sign-in was
// used is known to the nearest ten minutes.
const leastIdle = 20 * time.Minute

// SignIn is how people come in.
type SignIn struct {
	// NoPasswords closes the accounts of the house's own: people come by a provider.
	NoPasswords bool
	// AgainAfter has whoever changes people, providers or the house rules sign in again
	// where they did so longer ago; 0 asks nobody.
	AgainAfter  time.Duration
	Console     Ends
	CommandLine Ends
	// Providers is what groups at identity providers come to, by the provider's name.
	Providers map[string]Groups
	// Directory is what the groups of a directory come to that tells who is here (SCIM).
	Directory Groups
}

// Groups is what the groups of people at an identity provider come to.
type Groups struct {
	Say []GroupSays // in the document's order
	// Otherwise is the role of whom no group gives one; "" lets them not in.
	Otherwise policy.Role
}

// GroupSays is what a group gives who is in it: a role, a team, or both.
type GroupSays struct {
	Group string
	Role  policy.Role
	Team  string
}

// Placed is what somebody's groups come to.
type Placed struct {
	Role policy.Role
	Team string // "" is none said: it stays as it is, and so do further ones
	Also []AlsoIn
}

// AlsoIn is a team beside somebody's own.
type AlsoIn struct {
	Team  string
	Leads bool
}

// Place is what somebody with these groups is: the first role that one of them gives,
// and the first team; they are in the others that are given beside it, as their leads
// where the role of a lead is said with one. ok is false where they are not to be let in.
func (g Groups) Place(groups []string) (p Placed, ok bool) {
	for _, s := range g.Say {
		if !slices.Contains(groups, s.Group) {
			continue
		}
		if p.Role == "" {
			p.Role = s.Role
		}
		leads := s.Role == policy.Lead
		switch i := slices.IndexFunc(p.Also, func(a AlsoIn) bool { return a.Team == s.Team }); {
		case s.Team == "":
		case p.Team == "":
			p.Team = s.Team
		case s.Team == p.Team: // what they are there is their role
		case i >= 0:
			p.Also[i].Leads = p.Also[i].Leads || leads
		default:
			p.Also = append(p.Also, AlsoIn{s.Team, leads})
		}
	}
	if p.Role == "" {
		p.Role = g.Otherwise
	}
	if p.Role == policy.Auditor { // who looks at everybody's is in no team beside their own
		p.Also = nil
	}
	return p, p.Role != ""
}

var providerName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,31}$`)

// ProviderName tells whether a provider can be called so.
func ProviderName(name string) bool { return providerName.MatchString(name) }

func (d *doc) signIn(n *yaml.Node, s *SignIn) {
	ends := func(path string, e *Ends) func(*yaml.Node) {
		return func(n *yaml.Node) {
			d.mapping(n, path, fields{
				"longest": may(func(n *yaml.Node) { e.Longest = d.duration(n, 10*time.Minute) }),
				"idle":    may(func(n *yaml.Node) { e.Idle = d.duration(n, leastIdle) }),
			})
		}
	}
	var none *yaml.Node
	d.mapping(n, "sign_in", fields{
		"passwords": may(func(n *yaml.Node) {
			if s.NoPasswords = !d.yes(n); s.NoPasswords {
				none = n
			}
		}),
		"again_after":  may(func(n *yaml.Node) { s.AgainAfter = d.duration(n, time.Minute) }),
		"console":      may(ends("sign_in.console", &s.Console)),
		"command_line": may(ends("sign_in.command_line", &s.CommandLine)),
		"directory":    may(func(n *yaml.Node) { s.Directory = d.groups(n, "sign_in.directory") }),
		"providers": may(func(n *yaml.Node) {
			for _, p := range d.pairs(n, "sign_in.providers") {
				if !ProviderName(p.key.Value) {
					d.say(p.key, "use lower-case letters, digits and dashes, as in skerry-id", "%q is no name of a provider", p.key.Value)
					continue
				}
				if s.Providers == nil {
					s.Providers = map[string]Groups{}
				}
				s.Providers[p.key.Value] = d.groups(p.value, "sign_in.providers."+p.key.Value)
			}
		}),
	})
	if none != nil && len(s.Providers) == 0 {
		d.say(none, "say under sign_in.providers who comes by which, or leave passwords on", "without passwords and without a provider nobody can sign in")
	}
}

func (d *doc) groups(n *yaml.Node, path string) (g Groups) {
	role := func(n *yaml.Node, to *policy.Role) {
		if *to = policy.Role(d.text(n)); !to.Valid() {
			d.say(n, "it is operator, lead, developer or auditor", "%q is no role", n.Value)
		}
	}
	d.mapping(n, path, fields{
		"groups": may(func(n *yaml.Node) {
			if n.Kind != yaml.SequenceNode || len(n.Content) > 500 {
				d.say(n, "write - {group: NAME, role: developer, team: Harbour}, at most 500", "%s.groups is no list", path)
				return
			}
			for _, one := range n.Content {
				var s GroupSays
				d.mapping(one, path+".groups", fields{
					"group": need(func(n *yaml.Node) { s.Group = d.text(n) }),
					"role":  may(func(n *yaml.Node) { role(n, &s.Role) }),
					"team": may(func(n *yaml.Node) {
						s.Team = d.text(n)
						d.names = append(d.names, Named{"team", s.Team, "", n.Line, n.Column})
					}),
				})
				if s.Role == "" && s.Team == "" {
					d.say(one, "add a role, a team, or both", "the group %q gives nothing", s.Group)
				}
				g.Say = append(g.Say, s)
			}
		}),
		"otherwise": may(func(n *yaml.Node) {
			if role(n, &g.Otherwise); g.Otherwise == policy.Operator {
				d.say(n, "name a group of the operators", "whoever the provider knows would be an operator")
			}
		}),
	})
	if len(g.Say) == 0 && g.Otherwise == "" {
		d.say(n, "add groups, or otherwise: developer", "%s lets nobody in", path)
	}
	return g
}

func (s SignIn) values(v map[string]string) {
	if s.NoPasswords {
		v["sign_in.passwords"] = "no"
	}
	if s.AgainAfter > 0 {
		v["sign_in.again_after"] = Duration(s.AgainAfter)
	}
	for path, e := range map[string]struct{ is, usual Ends }{"sign_in.console": {s.Console, consoleEnds}, "sign_in.command_line": {s.CommandLine, commandEnds}} {
		if e.is.Longest != e.usual.Longest {
			v[path+".longest"] = Duration(e.is.Longest)
		}
		if e.is.Idle != 0 {
			v[path+".idle"] = Duration(e.is.Idle)
		}
	}
	of := map[string]Groups{"sign_in.directory": s.Directory}
	for name, g := range s.Providers {
		of["sign_in.providers."+name] = g
	}
	for path, g := range of {
		var says []string
		for _, x := range g.Say {
			says = append(says, strings.TrimSpace(x.Group+": "+strings.Join(slices.DeleteFunc([]string{string(x.Role), x.Team}, func(s string) bool { return s == "" }), ", ")))
		}
		if len(says) > 0 {
			v[path+".groups"] = strings.Join(says, "; ")
		}
		if g.Otherwise != "" {
			v[path+".otherwise"] = string(g.Otherwise)
		}
	}
}
