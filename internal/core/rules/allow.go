package rules

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Allow is what environment definitions may use beyond the usual. The zero
// Allow is closed.
type Allow struct {
	Privileged, HostNetwork bool
	Capabilities            []string // without CAP_
	Security                []string // security options, as the engine writes them
	Devices                 []string // paths on the yard's machine
	HostPaths               []string // on the yard's machine, each as it is named
	RunOptions              []string // of runArgs, without dashes
}

// Images is which images may be used, and where they come from.
type Images struct {
	// From are the registries, or the beginnings of names within them, that
	// images may come from; none is any.
	From []string
	// Mirrors says, for the beginning of a name, what is put in its place.
	Mirrors map[string]string
	// Usual is which image serves a repository without a definition: the first
	// whose file it holds.
	Usual []Usual
	// FeaturesFrom are the registries and addresses that features may be
	// fetched from; none is none.
	FeaturesFrom []string
}

// Usual is an image for repositories that hold a file; an empty Holds is for all.
type Usual struct{ Holds, Image string }

// debugger is the capability that a debugger asks for. It is open unless the
// rules close it: it lets root in a container look into the memory of the
// container's other processes, which are all the one person's, and into no
// other's, as each container has process ids of its own.
const debugger = "SYS_PTRACE"

// AllowFor is what the definitions of one repository may use.
func (r Rules) AllowFor(repository string) Allow {
	a, b := r.Allow, r.AllowIn[repository]
	if !r.NoDebugger && !slices.Contains(a.Capabilities, debugger) {
		a.Capabilities = append(slices.Clone(a.Capabilities), debugger)
	}
	return Allow{Privileged: a.Privileged || b.Privileged, HostNetwork: a.HostNetwork || b.HostNetwork, Capabilities: slices.Concat(a.Capabilities, b.Capabilities),
		Security: slices.Concat(a.Security, b.Security), Devices: slices.Concat(a.Devices, b.Devices), HostPaths: slices.Concat(a.HostPaths, b.HostPaths), RunOptions: slices.Concat(a.RunOptions, b.RunOptions)}
}

// Whole is an image's name with the registry in front, as the engine fills it
// in: docker.io, and library where no folder is named.
func Whole(image string) string {
	first, _, more := strings.Cut(image, "/")
	switch {
	case !more:
		return "docker.io/library/" + image
	case !strings.ContainsAny(first, ".:") && first != "localhost":
		return "docker.io/" + image
	}
	return image
}

// beginsWith tells whether a name begins with whole parts of another.
func beginsWith(name, beginning string) bool {
	rest, ok := strings.CutPrefix(name, strings.TrimSuffix(beginning, "/"))
	steps := slices.ContainsFunc(strings.Split(rest, "/"), func(part string) bool { // which would lead elsewhere
		part = strings.ReplaceAll(strings.ToLower(part), "%2e", ".")
		return part == ".." || part == "."
	})
	return ok && !steps && (rest == "" || strings.ContainsAny(rest[:1], "/:@"))
}

// May tells whether an image may be used.
func (i Images) May(image string) bool {
	return len(i.From) == 0 || slices.ContainsFunc(i.From, func(f string) bool { return beginsWith(Whole(image), f) })
}

// MayFeature tells whether a feature may be fetched from where it is.
func (i Images) MayFeature(ref string) bool {
	return slices.ContainsFunc(i.FeaturesFrom, func(f string) bool { return beginsWith(ref, f) })
}

// Mirrored is the name that an image is fetched by. Of several mirrors the
// longest beginning counts.
func (i Images) Mirrored(image string) string {
	best, to := "", ""
	for from, mirror := range i.Mirrors {
		if beginsWith(Whole(image), from) && len(from) > len(best) {
			best, to = from, mirror
		}
	}
	if best == "" {
		return image
	}
	return strings.TrimSuffix(to, "/") + strings.TrimPrefix(Whole(image), strings.TrimSuffix(best, "/"))
}

// list reads a list of plain values, each held against a check.
func (d *doc) list(n *yaml.Node, wrong func(string) string) (out []string) {
	if n.Kind != yaml.SequenceNode {
		d.say(n, "write it in brackets, as in [ONE, OTHER]", "a list is wanted here")
		return nil
	}
	for _, e := range n.Content {
		s := d.text(e)
		if s == "" {
			d.say(e, "", "an empty value")
		} else if why := wrong(s); why != "" {
			d.say(e, "", "%q %s", s, why)
		}
		out = append(out, s)
	}
	return out
}

func (d *doc) yes(n *yaml.Node) bool {
	switch s := d.text(n); s {
	case "true", "yes":
		return true
	case "false", "no":
	default:
		d.say(n, "write yes or no", "%q is neither yes nor no", s)
	}
	return false
}

func anyText(string) string { return "" }

func absolute(s string) string {
	if !path.IsAbs(s) || path.Clean(s) != s {
		return "is no absolute path"
	}
	return ""
}

func (d *doc) allow(n *yaml.Node, at string, more fields) (a Allow) {
	known := fields{
		"privileged": may(func(n *yaml.Node) { a.Privileged = d.yes(n) }), "host_network": may(func(n *yaml.Node) { a.HostNetwork = d.yes(n) }),
		"capabilities": may(func(n *yaml.Node) {
			a.Capabilities = d.list(n, func(s string) string {
				if s != strings.ToUpper(s) || strings.HasPrefix(s, "CAP_") {
					return "is written in capitals and without CAP_"
				}
				return ""
			})
		}),
		"security": may(func(n *yaml.Node) { a.Security = d.list(n, anyText) }), "run_options": may(func(n *yaml.Node) {
			a.RunOptions = d.list(n, func(s string) string {
				if strings.HasPrefix(s, "-") {
					return "is written without dashes"
				}
				return ""
			})
		}),
		"devices": may(func(n *yaml.Node) { a.Devices = d.list(n, absolute) }), "host_paths": may(func(n *yaml.Node) {
			a.HostPaths = d.list(n, absolute)
			if n.Kind == yaml.SequenceNode {
				d.hostPaths = append(d.hostPaths, n.Content...)
			}
		}),
	}
	maps.Copy(known, more)
	d.mapping(n, at, known)
	return a
}

func (d *doc) allows(n *yaml.Node, r *Rules) {
	d.mapping(n, "allow", fields{
		"debugger":   may(func(n *yaml.Node) { r.NoDebugger = !d.yes(n) }),
		"everywhere": may(func(n *yaml.Node) { r.Allow = d.allow(n, "allow.everywhere", nil) }),
		"repositories": may(func(n *yaml.Node) {
			for _, p := range d.pairs(n, "allow.repositories") {
				name := p.key.Value
				at := ofRepositories + name
				r.AllowIn[name] = d.allow(p.value, at, fields{"until": until(d, at)})
				d.names = append(d.names, Named{"repository", name, at, p.key.Line, p.key.Column})
			}
		}),
	})
	d.apart()
}

// apart holds paths of the host against each other: what is mounted is found by
// its path, and a workspace that may write to a folder could put a link in the
// place of another path beneath it.
func (d *doc) apart() {
	slices.SortFunc(d.hostPaths, func(a, b *yaml.Node) int { return cmp.Compare(a.Value+"/", b.Value+"/") })
	over := ""
	for _, n := range d.hostPaths {
		p := strings.TrimSuffix(n.Value, "/") + "/"
		if over != "" && p != over && strings.HasPrefix(p, over) {
			d.say(n, "mount the upper one alone, or move this folder elsewhere", "%s lies within %s, which workspaces may be given too: one of those could put a link in its place", n.Value, strings.TrimSuffix(over, "/"))
			continue
		}
		over = p
	}
}

func (d *doc) workspaces(n *yaml.Node, w *Workspaces) {
	d.mapping(n, "workspaces", fields{
		"network":     may(func(n *yaml.Node) { w.Closed = d.either(n, "outside", "closed") }),
		"gain_rights": may(func(n *yaml.Node) { w.NoGain = !d.yes(n) }),
		"enter":       may(func(n *yaml.Node) { w.OperatorsEnter = d.either(n, "nobody", "operators") }),
		"luggage":     may(func(n *yaml.Node) { w.LuggageMost = read(d, n, parseLuggage) }),
		"push":        may(func(n *yaml.Node) { w.ConfirmPush = d.either(n, "free", "confirmed") }),
	})
}

// Of what goes with somebody, in bytes.
const (
	usualLuggage = 4 << 20
	mostLuggage  = 64 << 20
	noLuggage    = "none"
)

// parseLuggage reads how much may go with somebody.
func parseLuggage(s string) (int64, error) {
	if s == noLuggage {
		return 0, nil
	}
	n, err := ParseBytes(s)
	if err == nil && n > mostLuggage {
		err = fmt.Errorf("%q is more than %s: what is so large belongs on a volume", s, Bytes(mostLuggage))
	}
	return n, err
}

// either reads one of two words; it tells whether it is the other.
func (d *doc) either(n *yaml.Node, usual, other string) bool {
	s := d.text(n)
	if s != usual && s != other {
		d.say(n, "write "+usual+" or "+other, "%q is neither %s nor %s", s, usual, other)
	}
	return s == other
}

func (d *doc) builds(n *yaml.Node, b *Builds) {
	d.mapping(n, "builds", fields{
		"network": may(func(n *yaml.Node) { b.Closed = d.either(n, "outside", "closed") }),
		"size":    may(func(n *yaml.Node) { b.Size, d.buildSize = d.text(n), n }),
	})
}

func (d *doc) images(n *yaml.Node, i *Images) {
	d.mapping(n, "images", fields{
		"from": may(func(n *yaml.Node) { i.From = d.list(n, anyText) }), "features_from": may(func(n *yaml.Node) { i.FeaturesFrom = d.list(n, anyText) }),
		"mirrors": may(func(n *yaml.Node) {
			i.Mirrors = map[string]string{}
			for _, p := range d.pairs(n, "images.mirrors") {
				i.Mirrors[p.key.Value] = d.text(p.value)
			}
		}),
		"usual": may(func(n *yaml.Node) {
			for _, p := range d.pairs(n, "images.usual") {
				u := Usual{Holds: p.key.Value, Image: d.text(p.value)}
				if u.Holds == "otherwise" {
					u.Holds = ""
				}
				if u.Image == "" || strings.ContainsAny(u.Image, " \t") {
					d.say(p.value, "", "%q is no image", u.Image)
				}
				i.Usual = append(i.Usual, u)
			}
		}),
	})
}

// allowValues flattens what Diff compares.
func (r Rules) allowValues(v map[string]string) {
	put := func(at string, list []string) {
		if len(list) > 0 {
			v[at] = strings.Join(list, ", ")
		}
	}
	one := func(at string, a Allow) {
		if a.Privileged {
			v[at+".privileged"] = "yes"
		}
		if a.HostNetwork {
			v[at+".host_network"] = "yes"
		}
		put(at+".capabilities", a.Capabilities)
		put(at+".security", a.Security)
		put(at+".devices", a.Devices)
		put(at+".host_paths", a.HostPaths)
		put(at+".run_options", a.RunOptions)
	}
	if r.NoDebugger {
		v["allow.debugger"] = "no"
	}
	one("allow.everywhere", r.Allow)
	for _, name := range slices.Sorted(maps.Keys(r.AllowIn)) {
		one("allow.repositories."+name, r.AllowIn[name])
	}
	put("images.from", r.Images.From)
	put("images.features_from", r.Images.FeaturesFrom)
	for from, to := range r.Images.Mirrors {
		v["images.mirrors."+from] = to
	}
	var usual []string
	for _, u := range r.Images.Usual {
		usual = append(usual, strings.TrimPrefix(u.Holds+": "+u.Image, ": "))
	}
	put("images.usual", usual)
	for at, closed := range map[string]bool{"builds.network": r.Builds.Closed, "workspaces.network": r.Workspaces.Closed} {
		v[at] = "outside"
		if closed {
			v[at] = "closed"
		}
	}
	v["workspaces.push"] = "free"
	if r.Workspaces.ConfirmPush {
		v["workspaces.push"] = "confirmed"
	}
	v["workspaces.luggage"] = noLuggage
	if r.Workspaces.LuggageMost > 0 {
		v["workspaces.luggage"] = Bytes(r.Workspaces.LuggageMost)
	}
	v["workspaces.enter"] = "nobody"
	if r.Workspaces.OperatorsEnter {
		v["workspaces.enter"] = "operators"
	}
	v["workspaces.gain_rights"] = "yes"
	if r.Workspaces.NoGain {
		v["workspaces.gain_rights"] = "no"
	}
	if r.Builds.Size != "" {
		v["builds.size"] = r.Builds.Size
	}
	for _, e := range r.Editors {
		v["editors."+e.Name] = e.Link
	}
	put("webhooks_inside", r.WebhooksInside)
	if r.Starters != "" {
		v["starters"] = r.Starters
	}
}

// BuiltIn serves repositories without a definition where the house rules say
// nothing of images.usual.
var BuiltIn = []Usual{{"go.mod", "golang:1.26-bookworm"}, {"package.json", "node:24-bookworm"}, {"pyproject.toml", "python:3.14-bookworm"}, {"requirements.txt", "python:3.14-bookworm"},
	{"Cargo.toml", "rust:1.92-bookworm"}, {"Gemfile", "ruby:3.4-bookworm"}, {"pom.xml", "maven:3-eclipse-temurin-25"}, {"", "buildpack-deps:bookworm"}}
