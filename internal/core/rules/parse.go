package rules

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // time zones are known wherever the service runs

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
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
	r := Rules{AllowIn: map[string]Allow{}, Sizes: map[string]Size{}, Rates: Rates{RunningHour: map[string]Money{}}, Limits: Limits{People: map[string]Amounts{}, Teams: map[string]Amounts{}}}
	if len(text) > MaxBytes {
		return r, []Finding{{1, 1, fmt.Sprintf("the document has %d bytes; at most %d are allowed", len(text), MaxBytes), ""}}
	}
	file, err := parser.ParseBytes(text, 0)
	if err != nil {
		f := Finding{1, 1, "not YAML: " + err.Error(), ""}
		var se *yaml.SyntaxError
		if errors.As(err, &se) && se.Token != nil {
			f = Finding{se.Token.Position.Line, se.Token.Position.Column, "not YAML: " + se.Message, ""}
		}
		return r, []Finding{f}
	}
	if len(file.Docs) != 1 || file.Docs[0].Body == nil {
		return r, []Finding{{1, 1, "the document is empty, or more than one", "write one document"}}
	}
	d.mapping(file.Docs[0].Body, "", fields{
		"organisation": may(func(n ast.Node) {
			if r.Organisation = d.text(n); len(r.Organisation) > 60 {
				d.say(n, "use at most 60 letters", "the organisation's name is too long")
			}
		}),
		"currency": need(func(n ast.Node) {
			if r.Currency = d.text(n); !currency.MatchString(r.Currency) {
				d.say(n, "use three capital letters, like EUR", "%q is no currency", r.Currency)
			}
		}),
		"time_zone": need(func(n ast.Node) {
			zone, err := time.LoadLocation(d.text(n))
			if r.Zone = zone; err != nil || d.text(n) == "" || d.text(n) == "Local" {
				d.say(n, "use one like Europe/Oslo", "%q is no time zone", d.text(n))
			}
		}),
		"sizes":      need(func(n ast.Node) { d.sizes(n, &r) }),
		"usual_size": need(func(n ast.Node) { r.UsualSize = d.text(n); d.usual = n }),
		"limits":     may(func(n ast.Node) { d.limits(n, &r) }),
		"idle":       need(func(n ast.Node) { d.idle(n, &r.Idle) }),
		"retention": need(func(n ast.Node) {
			d.mapping(n, "retention", fields{
				"stopped_most": need(func(n ast.Node) { r.StoppedMost = d.duration(n, time.Hour) }),
				"logs_most":    may(func(n ast.Node) { r.LogsMost = d.duration(n, time.Hour) }),
			})
		}),
		"rates":           need(func(n ast.Node) { d.rates(n, &r) }),
		"allow":           may(func(n ast.Node) { d.allows(n, &r) }),
		"images":          may(func(n ast.Node) { d.images(n, &r.Images) }),
		"webhooks_inside": may(func(n ast.Node) { r.WebhooksInside = d.list(n, anyText) }),
		"starters":        may(func(n ast.Node) { r.Starters = d.text(n) }),
	})
	if d.usual != nil {
		if _, ok := r.Sizes[r.UsualSize]; !ok {
			d.say(d.usual, "name one of: "+strings.Join(r.Order, ", "), "usual_size %q is none of the sizes", r.UsualSize)
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

// doc carries one document through its reading.
type doc struct {
	findings       []Finding
	usual, ratesAt ast.Node
}

func (d *doc) say(n ast.Node, fix, format string, args ...any) {
	f := Finding{1, 1, fmt.Sprintf(format, args...), fix}
	if m, ok := n.(*ast.MappingNode); ok && len(m.Values) > 0 {
		n = m.Values[0].Key // a mapping without braces stands where its first name does
	}
	if t := n.GetToken(); t != nil && t.Position != nil {
		f.Line, f.Column = t.Position.Line, t.Position.Column
	}
	d.findings = append(d.findings, f)
}

type field struct {
	read   func(ast.Node)
	needed bool
}

type fields map[string]field

func need(read func(ast.Node)) field { return field{read, true} }
func may(read func(ast.Node)) field  { return field{read, false} }

// pairs gives the keys and values of a mapping.
func (d *doc) pairs(n ast.Node, path string) []*ast.MappingValueNode {
	switch m := n.(type) {
	case *ast.MappingNode:
		return m.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{m}
	}
	d.say(n, "", "%s must be a list of names with values", cmp.Or(path, "the document"))
	return nil
}

// mapping reads the named fields of a mapping, and says which are unknown or missing.
func (d *doc) mapping(n ast.Node, path string, want fields) {
	ps := d.pairs(n, path)
	if ps == nil {
		return
	}
	seen := map[string]bool{}
	for _, p := range ps {
		key := p.Key.GetToken().Value
		f, ok := want[key]
		if !ok {
			d.say(p.Key, "it may be: "+strings.Join(names(want), ", "), "%q is not known in %s", key, cmp.Or(path, "the document"))
			continue
		}
		seen[key] = true
		f.read(p.Value)
	}
	for _, k := range names(want) {
		if want[k].needed && !seen[k] {
			d.say(n, "", "%s is missing", strings.TrimPrefix(path+"."+k, "."))
		}
	}
}

func names(f fields) []string { return slices.Sorted(maps.Keys(f)) }

// text is a plain value as it is written. Anchors and aliases are not followed.
func (d *doc) text(n ast.Node) string {
	switch v := n.(type) {
	case *ast.StringNode:
		return v.Value
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.NullNode:
		return n.GetToken().Value
	}
	d.say(n, "", "a plain value is wanted here")
	return ""
}

func read[T any](d *doc, n ast.Node, parse func(string) (T, error)) T {
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

func (d *doc) duration(n ast.Node, least time.Duration) time.Duration {
	before := len(d.findings)
	v := read(d, n, ParseDuration)
	if v < least && len(d.findings) == before {
		d.say(n, "use at least "+Duration(least), "%s is too short", Duration(v))
	}
	return v
}

func (d *doc) sizes(n ast.Node, r *Rules) {
	for _, p := range d.pairs(n, "sizes") {
		name := p.Key.GetToken().Value
		if !sizeName.MatchString(name) {
			d.say(p.Key, "use lower-case letters, digits and dashes, at most 20", "%q is no name of a size", name)
		}
		var s Size
		d.mapping(p.Value, "sizes."+name, fields{
			"cores": need(func(n ast.Node) {
				if s.CoresMilli = read(d, n, parseThousandths); s.CoresMilli < 50 {
					d.say(n, "use at least 0.05", "too few cores")
				}
			}),
			"memory": need(func(n ast.Node) { s.MemoryBytes = read(d, n, ParseBytes) }),
			"disk":   need(func(n ast.Node) { s.DiskBytes = read(d, n, ParseBytes) }),
		})
		r.Sizes[name] = s
		r.Order = append(r.Order, name)
	}
}

func (d *doc) amounts(n ast.Node, path string) Amounts {
	a := Amounts{}
	count := func(k Kind) field {
		return may(func(n ast.Node) {
			a[k] = read(d, n, func(s string) (int64, error) {
				v, err := strconv.ParseInt(s, 10, 32)
				if err != nil || v < 0 {
					return 0, fmt.Errorf("%q is no count", s)
				}
				return v, nil
			})
		})
	}
	d.mapping(n, path, fields{
		"existing": count(Existing), "running": count(Running),
		"cores":  may(func(n ast.Node) { a[Cores] = read(d, n, parseThousandths) }),
		"memory": may(func(n ast.Node) { a[Memory] = read(d, n, ParseBytes) }),
	})
	return a
}

func (d *doc) limits(n ast.Node, r *Rules) {
	named := func(path string, into map[string]Amounts) field {
		return may(func(n ast.Node) {
			for _, p := range d.pairs(n, path) {
				name := p.Key.GetToken().Value
				into[name] = d.amounts(p.Value, path+"."+name)
			}
		})
	}
	d.mapping(n, "limits", fields{
		"person": may(func(n ast.Node) { r.Limits.Person = d.amounts(n, "limits.person") }),
		"team":   may(func(n ast.Node) { r.Limits.Team = d.amounts(n, "limits.team") }),
		"people": named("limits.people", r.Limits.People),
		"teams":  named("limits.teams", r.Limits.Teams),
	})
}

func (d *doc) idle(n ast.Node, i *Idle) {
	var most ast.Node
	span := func(to *time.Duration, least time.Duration) field {
		return need(func(n ast.Node) { *to = d.duration(n, least) })
	}
	d.mapping(n, "idle", fields{
		"quiet_after": span(&i.QuietAfter, time.Second), "rest_after": span(&i.RestAfter, time.Second),
		"rest_after_most": need(func(n ast.Node) { i.RestAfterMost, most = d.duration(n, time.Second), n }),
		"warn_before":     span(&i.WarnBefore, 0), "hold_most": span(&i.HoldMost, time.Minute),
		"cpu_floor": need(func(n ast.Node) { i.CPUFloorMilli = read(d, n, parseThousandths) }),
	})
	if most != nil && i.RestAfterMost < i.RestAfter {
		d.say(most, "", "rest_after_most (%s) is shorter than rest_after (%s)", Duration(i.RestAfterMost), Duration(i.RestAfter))
	}
}

func (d *doc) rates(n ast.Node, r *Rules) {
	d.ratesAt = n
	money := func(n ast.Node) Money {
		return Money(read(d, n, func(s string) (int64, error) { return decimal(s, 6) }))
	}
	d.mapping(n, "rates", fields{
		"running_hour": need(func(n ast.Node) {
			for _, p := range d.pairs(n, "rates.running_hour") {
				name := p.Key.GetToken().Value
				if _, ok := r.Sizes[name]; !ok {
					d.say(p.Key, "name one of the sizes, which must stand above the rates", "%q is no size", name)
				}
				r.Rates.RunningHour[name] = money(p.Value)
			}
		}),
		"storage_gib_month": need(func(n ast.Node) { r.Rates.StorageGiBMonth = money(n) }),
		"prebuild_minute":   need(func(n ast.Node) { r.Rates.PrebuildMinute = money(n) }),
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
