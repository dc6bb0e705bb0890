package rules

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // time zones are known wherever the service runs

	"go.yaml.in/yaml/v4"
)

// MaxBytes bounds the document.
const MaxBytes = 256 << 10

var (
	sizeName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,19}$`)
	currency = regexp.MustCompile(`^[A-Z]{3}$`)
)

// Parse reads the document. Where there are findings the Rules must not be used.
func Parse(text []byte) (Rules, []Finding) {
	d := &doc{}
	r := Rules{Workspaces: Workspaces{LuggageMost: usualLuggage}, AllowIn: map[string]Allow{}, Sizes: map[string]Size{}, Rates: Rates{RunningHour: map[string]Money{}}, Limits: Limits{People: map[string]Amounts{}, Teams: map[string]Amounts{}}, SignIn: SignIn{Console: consoleEnds, CommandLine: commandEnds}}
	if len(text) > MaxBytes {
		return r, []Finding{{1, 1, fmt.Sprintf("the document has %d bytes; at most %d are allowed", len(text), MaxBytes), ""}}
	}
	root, f := document(text)
	if f != nil {
		return r, []Finding{*f}
	}
	d.mapping(root, "", fields{
		"organisation": may(func(n *yaml.Node) {
			if r.Organisation = d.text(n); len(r.Organisation) > 60 {
				d.say(n, "use at most 60 letters", "the organisation's name is too long")
			}
		}),
		"currency": need(func(n *yaml.Node) {
			if r.Currency = d.text(n); !currency.MatchString(r.Currency) {
				d.say(n, "use three capital letters, like EUR", "%q is no currency", r.Currency)
			}
		}),
		"time_zone": need(func(n *yaml.Node) {
			zone, err := time.LoadLocation(d.text(n))
			if r.Zone = zone; err != nil || d.text(n) == "" || d.text(n) == "Local" {
				d.say(n, "use one like Europe/Oslo", "%q is no time zone", d.text(n))
			}
		}),
		"sizes":      need(func(n *yaml.Node) { d.sizes(n, &r) }),
		"usual_size": need(func(n *yaml.Node) { r.UsualSize = d.text(n); d.usual = n }),
		"limits":     may(func(n *yaml.Node) { d.limits(n, &r) }),
		"idle":       need(func(n *yaml.Node) { d.idle(n, &r.Idle) }),
		"retention": need(func(n *yaml.Node) {
			d.mapping(n, "retention", fields{
				"stopped_most": need(func(n *yaml.Node) { r.StoppedMost = d.duration(n, time.Hour) }),
				"logs_most":    may(func(n *yaml.Node) { r.LogsMost = d.duration(n, time.Hour) }),
			})
		}),
		"rates":           need(func(n *yaml.Node) { d.rates(n, &r) }),
		"allow":           may(func(n *yaml.Node) { d.allows(n, &r) }),
		"images":          may(func(n *yaml.Node) { d.images(n, &r.Images) }),
		"workspaces":      may(func(n *yaml.Node) { d.workspaces(n, &r.Workspaces) }),
		"ports":           may(func(n *yaml.Node) { d.ports(n, &r.Ports) }),
		"terminals":       may(func(n *yaml.Node) { d.terminals(n, &r.Terminals) }),
		"sign_in":         may(func(n *yaml.Node) { d.signIn(n, &r.SignIn) }),
		"secrets":         may(func(n *yaml.Node) { d.secrets(n, &r.Secrets) }),
		"announcement":    may(func(n *yaml.Node) { r.Announcement.read(d, n) }),
		"git":             may(func(n *yaml.Node) { r.Git.read(d, n) }),
		"builds":          may(func(n *yaml.Node) { d.builds(n, &r.Builds) }),
		"editors":         may(func(n *yaml.Node) { r.Editors = d.editors(n) }),
		"webhooks_inside": may(func(n *yaml.Node) { r.WebhooksInside = d.list(n, anyText) }),
		"starters": may(func(n *yaml.Node) {
			r.Starters = d.text(n)
			d.names = append(d.names, Named{"repository", r.Starters, "", n.Line, n.Column})
		}),
	})
	readEnds(d, &r)
	r.Names = d.names
	if d.usual != nil {
		if _, ok := r.Sizes[r.UsualSize]; !ok {
			d.say(d.usual, "name one of: "+strings.Join(r.Order, ", "), "usual_size %q is none of the sizes", r.UsualSize)
		}
	}
	if d.buildSize != nil {
		if _, ok := r.Sizes[r.Builds.Size]; !ok {
			d.say(d.buildSize, "name one of: "+strings.Join(r.Order, ", "), "builds.size %q is none of the sizes", r.Builds.Size)
		}
	}
	if d.ratesAt != nil {
		for _, name := range r.Order {
			if _, ok := r.Rates.RunningHour[name]; !ok {
				d.say(d.ratesAt, "add "+name+" under rates.running_hour", "the size %q has no rate", name)
			}
		}
	}
	sort.SliceStable(d.findings, func(i, j int) bool { return d.findings[i].Line < d.findings[j].Line })
	return r, d.findings
}

// document reads the one document of a text.
func document(text []byte) (*yaml.Node, *Finding) {
	var doc, more yaml.Node
	in := yaml.NewDecoder(bytes.NewReader(text))
	err := in.Decode(&doc)
	if err != nil && err != io.EOF {
		f := Finding{1, 1, "not YAML: " + errorPlace.ReplaceAllString(strings.TrimPrefix(err.Error(), "yaml: "), ""), ""}
		if at := errorPlace.FindStringSubmatch(err.Error()); at != nil {
			f.Line, _ = strconv.Atoi(at[1])
			if f.Column, _ = strconv.Atoi(at[2]); f.Column == 0 {
				f.Column = 1
			}
		}
		return nil, &f
	}
	if err == io.EOF || len(doc.Content) == 0 || in.Decode(&more) != io.EOF {
		return nil, &Finding{1, 1, "the document is empty, or more than one", "write one document"}
	}
	return doc.Content[0], nil
}

// errorPlace is where in the text, by the parser's message.
var errorPlace = regexp.MustCompile(`(?:at )?line (\d+)(?:, column (\d+))?: ?`)

// maxFindings bounds what is told of one document.
const maxFindings = 200

// doc carries one document through its reading.
type doc struct {
	findings                  []Finding
	usual, ratesAt, buildSize *yaml.Node
	hostPaths                 []*yaml.Node // of all repositories, as written
	ends                      []ending
	names                     []Named
}

func (d *doc) say(n *yaml.Node, fix, format string, args ...any) {
	if len(d.findings) < maxFindings {
		d.findings = append(d.findings, Finding{max(1, n.Line), max(1, n.Column), fmt.Sprintf(format, args...), fix})
	}
}

type field struct {
	read   func(*yaml.Node)
	needed bool
}

type fields map[string]field

func need(read func(*yaml.Node)) field { return field{read, true} }
func may(read func(*yaml.Node)) field  { return field{read, false} }

// pair is a key of a mapping with its value.
type pair struct{ key, value *yaml.Node }

// pairs gives the keys and values of a mapping, each key once.
func (d *doc) pairs(n *yaml.Node, path string) (out []pair) {
	if n.Kind != yaml.MappingNode {
		d.say(n, "", "%s must be a list of names with values", cmp.Or(path, "the document"))
		return nil
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key := n.Content[i]
		switch {
		case key.Kind != yaml.ScalarNode:
			d.say(key, "", "a plain name is wanted here")
		case seen[key.Value]:
			d.say(key, "keep one of the two", "%q stands twice in %s", key.Value, cmp.Or(path, "the document"))
		default:
			seen[key.Value] = true
			out = append(out, pair{key, n.Content[i+1]})
		}
	}
	return out
}

// mapping reads the named fields of a mapping, and says which are unknown or missing.
func (d *doc) mapping(n *yaml.Node, path string, want fields) {
	ps := d.pairs(n, path)
	if n.Kind != yaml.MappingNode {
		return
	}
	seen := map[string]bool{}
	for _, p := range ps {
		key := p.key.Value
		f, ok := want[key]
		if !ok {
			d.say(p.key, "it may be: "+strings.Join(names(want), ", "), "%q is not known in %s", key, cmp.Or(path, "the document"))
			continue
		}
		seen[key] = true
		f.read(p.value)
	}
	for _, k := range names(want) {
		if want[k].needed && !seen[k] {
			d.say(n, "", "%s is missing", strings.TrimPrefix(path+"."+k, "."))
		}
	}
}

func names(f fields) []string { return slices.Sorted(maps.Keys(f)) }

// text is a plain value as it is written. Anchors and aliases are not followed.
func (d *doc) text(n *yaml.Node) string {
	if n.Kind == yaml.ScalarNode {
		return n.Value
	}
	d.say(n, "", "a plain value is wanted here")
	return ""
}

func read[T any](d *doc, n *yaml.Node, parse func(string) (T, error)) T {
	before := len(d.findings)
	s := d.text(n)
	if len(d.findings) > before {
		var none T
		return none
	}
	v, err := parse(s)
	if err != nil {
		d.say(n, "", "%s", err)
	}
	return v
}

func (d *doc) duration(n *yaml.Node, least time.Duration) time.Duration {
	before := len(d.findings)
	v := read(d, n, ParseDuration)
	if v < least && len(d.findings) == before {
		d.say(n, "use at least "+Duration(least), "%s is too short", Duration(v))
	}
	return v
}

func (d *doc) sizes(n *yaml.Node, r *Rules) {
	for _, p := range d.pairs(n, "sizes") {
		name := p.key.Value
		if !sizeName.MatchString(name) {
			d.say(p.key, "use lower-case letters, digits and dashes, at most 20", "%q is no name of a size", name)
		}
		var s Size
		d.mapping(p.value, "sizes."+name, fields{
			"cores": need(func(n *yaml.Node) {
				if s.CoresMilli = read(d, n, parseThousandths); s.CoresMilli < 50 {
					d.say(n, "use at least 0.05", "too few cores")
				}
			}),
			"memory": need(func(n *yaml.Node) { s.MemoryBytes = read(d, n, ParseBytes) }),
			"disk":   need(func(n *yaml.Node) { s.DiskBytes = read(d, n, ParseBytes) }),
		})
		r.Sizes[name] = s
		r.Order = append(r.Order, name)
	}
}

func (d *doc) amounts(n *yaml.Node, path string, more fields) Amounts {
	a := Amounts{}
	count := func(k Kind) field {
		return may(func(n *yaml.Node) {
			a[k] = read(d, n, func(s string) (int64, error) {
				v, err := strconv.ParseInt(s, 10, 32)
				if err != nil || v < 0 {
					return 0, fmt.Errorf("%q is no count", s)
				}
				return v, nil
			})
		})
	}
	known := fields{
		"existing": count(Existing), "running": count(Running),
		"cores":  may(func(n *yaml.Node) { a[Cores] = read(d, n, parseThousandths) }),
		"memory": may(func(n *yaml.Node) { a[Memory] = read(d, n, ParseBytes) }),
	}
	maps.Copy(known, more)
	d.mapping(n, path, known)
	return a
}

func (d *doc) limits(n *yaml.Node, r *Rules) {
	named := func(kind, path string, into map[string]Amounts) field {
		return may(func(n *yaml.Node) {
			for _, p := range d.pairs(n, strings.TrimSuffix(path, ".")) {
				name := p.key.Value
				into[name] = d.amounts(p.value, path+name, fields{"until": until(d, path+name)})
				d.names = append(d.names, Named{kind, name, path + name, p.key.Line, p.key.Column})
			}
		})
	}
	d.mapping(n, "limits", fields{
		"person": may(func(n *yaml.Node) { r.Limits.Person = d.amounts(n, "limits.person", nil) }),
		"team":   may(func(n *yaml.Node) { r.Limits.Team = d.amounts(n, "limits.team", nil) }),
		"people": named("person", ofPeople, r.Limits.People),
		"teams":  named("team", ofTeams, r.Limits.Teams),
	})
}

func (d *doc) idle(n *yaml.Node, i *Idle) {
	var most *yaml.Node
	span := func(to *time.Duration, least time.Duration) field {
		return need(func(n *yaml.Node) { *to = d.duration(n, least) })
	}
	d.mapping(n, "idle", fields{
		"quiet_after": span(&i.QuietAfter, time.Second), "rest_after": span(&i.RestAfter, time.Second),
		"rest_after_most": need(func(n *yaml.Node) { i.RestAfterMost, most = d.duration(n, time.Second), n }),
		"warn_before":     span(&i.WarnBefore, 0), "hold_most": span(&i.HoldMost, time.Minute),
		"wake": may(func(n *yaml.Node) {
			i.WakeOnly = append([]string{}, d.list(n, func(s string) string {
				if slices.Contains(Doors, s) {
					return ""
				}
				return "is no door; there are: " + strings.Join(Doors, ", ")
			})...)
		}),
		"cpu_floor": need(func(n *yaml.Node) { i.CPUFloorMilli = read(d, n, parseThousandths) }),
	})
	if most != nil && i.RestAfterMost < i.RestAfter {
		d.say(most, "", "rest_after_most (%s) is shorter than rest_after (%s)", Duration(i.RestAfterMost), Duration(i.RestAfter))
	}
}

func (d *doc) rates(n *yaml.Node, r *Rules) {
	d.ratesAt = n
	money := func(n *yaml.Node) Money {
		return Money(read(d, n, func(s string) (int64, error) { return decimal(s, 6) }))
	}
	d.mapping(n, "rates", fields{
		"running_hour": need(func(n *yaml.Node) {
			for _, p := range d.pairs(n, "rates.running_hour") {
				name := p.key.Value
				if _, ok := r.Sizes[name]; !ok {
					d.say(p.key, "name one of the sizes, which must stand above the rates", "%q is no size", name)
				}
				r.Rates.RunningHour[name] = money(p.value)
			}
		}),
		"storage_gib_month": need(func(n *yaml.Node) { r.Rates.StorageGiBMonth = money(n) }),
		"prebuild_minute":   need(func(n *yaml.Node) { r.Rates.PrebuildMinute = money(n) }),
	})
}

// First is the document a new service starts with.
const First = `# The house rules: sizes, limits, rest and rates. Checked, versioned and in
# force as soon as they are put. Lengths of time have a unit: s, min, h, days;
# memory and disk MiB, GiB, TiB; money is in the currency's unit.
currency: EUR
time_zone: UTC

sizes:
  small:  {cores: 1, memory: 2 GiB, disk: 10 GiB}
  middle: {cores: 2, memory: 4 GiB, disk: 20 GiB}
  large:  {cores: 4, memory: 8 GiB, disk: 40 GiB}
usual_size: small

# What is not named is not limited. people and teams give single ones other
# numbers than everyone's.
limits:
  person: {existing: 8, running: 4}

idle:
  quiet_after: 5 min      # without a sign of work for so long it counts as idle
  rest_after: 1 h         # ... and is put to rest, unless its owner asked for another time
  rest_after_most: 12 h   # the longest they may ask for
  warn_before: 5 min
  cpu_floor: 0.1          # cores; more than this is a sign of work
  hold_most: 12 h         # the longest hold

retention:
  stopped_most: 30 days   # then it is removed, unless work in it exists nowhere else
  logs_most: 90 days      # so long the logs of launch sheets are kept

rates:
  running_hour: {small: 0, middle: 0, large: 0}
  storage_gib_month: 0    # of a workspace's disk, from its start to its removal
  prebuild_minute: 0
`
