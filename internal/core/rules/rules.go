// Package rules is the house rules: the one versioned document of sizes,
// limits, rates, idle and retention rules, and of what definitions may use. It reads the document, says what is
// wrong with it by line and column, and what differs between two versions.
//
// It is part of the core: plain functions over content it is handed.
package rules

import (
	"fmt"
	"maps"
	"math/big"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"
)

// Rules is the document, read.
type Rules struct {
	Organisation string // what the house is called; may be empty
	Currency     string // ISO 4217
	Zone         *time.Location
	Sizes        map[string]Size
	// Order is the names of the sizes as the document has them.
	Order     []string
	UsualSize string
	Limits    Limits
	Idle      Idle
	// StoppedMost is how long a stopped workspace is kept.
	StoppedMost time.Duration
	// LogsMost is how long the logs of launch sheets are kept; 0 is for ever.
	LogsMost time.Duration
	Rates    Rates
	// NoDebugger closes what a debugger needs, which is open otherwise.
	NoDebugger bool
	// Allow is what every definition may use beyond the usual; AllowIn what
	// those of single repositories may use in addition, by name.
	Allow   Allow
	AllowIn map[string]Allow
	Images  Images
	Builds  Builds
	// Workspaces is what holds for all of them.
	Workspaces Workspaces
	Ports      Ports
	Terminals  Terminals
	SignIn     SignIn
	Secrets    Secrets
	Git        Git
	// Announcement is told to everybody; it may pause what people begin.
	Announcement Announcement
	// Starters is the registered repository that holds the starters; "" is none.
	Starters string
	// Editors are those of people's own machines that are opened on a workspace.
	Editors []Editor
	// Ends is when what a path of the document names ends by itself; see [Rules.At].
	Ends map[string]time.Time
	// Ended counts those of them that [Rules.At] has left out: with the version it tells
	// what was in force apart from what is.
	Ended int
	// Sooner is since when workspaces rest, and are removed, as soon as they do now: of the
	// house rules in force, not of a document.
	Sooner Sooner
	// Names are the people, teams and repositories that the document names.
	Names []Named
	// WebhooksInside are hosts within our own network that webhooks may be on.
	WebhooksInside []string
}

// Workspaces is what holds for all workspaces.
type Workspaces struct {
	// Closed gives them no way outside but the one to their git host.
	Closed bool
	// NoGain lets no program in them have more rights than who starts it.
	NoGain bool
	// OperatorsEnter lets operators enter the workspaces of others, with a reason.
	OperatorsEnter bool
	// LuggageMost bounds what of somebody's home folder goes with them from workspace to
	// workspace, in bytes; 0 lets nothing.
	LuggageMost int64
	// ConfirmPush has each push of a workspace confirmed by its owner outside of it.
	ConfirmPush bool
}

// Builds is what commands of builds may do and use.
type Builds struct {
	// Closed gives them no network.
	Closed bool
	// Size names what one command may use, where the engine can bound it; ""
	// is the largest.
	Size string
}

// BuildSize is what one command of a build may use.
func (r Rules) BuildSize() (out Size) {
	if s, ok := r.Sizes[r.Builds.Size]; ok {
		return s
	}
	for _, s := range r.Sizes {
		out.CoresMilli, out.MemoryBytes = max(out.CoresMilli, s.CoresMilli), max(out.MemoryBytes, s.MemoryBytes)
	}
	return out
}

// Size is what a workspace may use. The engine enforces cores and memory, and
// the disk where it can.
type Size struct {
	CoresMilli  int64 // thousandths of a core
	MemoryBytes int64
	DiskBytes   int64
}

// Kind is what a limit counts.
type Kind string

// What is counted: workspaces that exist, those that run, and the cores
// (thousandths) and memory (bytes) of those that run.
const (
	Existing Kind = "existing"
	Running  Kind = "running"
	Cores    Kind = "cores"
	Memory   Kind = "memory"
)

// Kinds lists them in the order people read them.
var Kinds = []Kind{Existing, Running, Cores, Memory}

// Amounts is a number for some of the kinds. As a limit, a kind that is not
// there is not limited.
type Amounts map[Kind]int64

// Limits are what people and teams may have.
type Limits struct {
	Person, Team  Amounts // everyone's
	People, Teams map[string]Amounts
}

// OfPerson is what one person may have: their own numbers over everyone's.
func (l Limits) OfPerson(name string) Amounts { return over(l.Person, l.People[name]) }

// OfTeam is what one team may have.
func (l Limits) OfTeam(name string) Amounts { return over(l.Team, l.Teams[name]) }

// LimitLine is the line of a document of house rules, counted from 1, in which a
// limit of a person or a team stands: their own where they have one, else that of
// all. Where there is none, or the document cannot be read, it is 0.
func LimitLine(document []byte, team bool, name string, k Kind) int {
	var doc yaml.Node
	if yaml.Unmarshal(document, &doc) != nil || len(doc.Content) == 0 {
		return 0
	}
	of, all := "person", "people"
	if team {
		of, all = "team", "teams"
	}
	for _, path := range [][]string{{"limits", all, name, string(k)}, {"limits", of, string(k)}} {
		if n := keyAt(doc.Content[0], path...); n != nil {
			return n.Line
		}
	}
	return 0
}

// keyAt is the last key of a path of keys from a node; nil where there is none.
func keyAt(n *yaml.Node, path ...string) (key *yaml.Node) {
	for _, word := range path {
		if key = nil; n.Kind != yaml.MappingNode {
			return nil
		}
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == word {
				key, n = n.Content[i], n.Content[i+1]
				break
			}
		}
		if key == nil {
			return nil
		}
	}
	return key
}

func over(general, own Amounts) Amounts {
	out := Amounts{}
	maps.Copy(out, general)
	maps.Copy(out, own)
	return out
}

// Idle is when a workspace is put to rest.
type Idle struct {
	QuietAfter    time.Duration // without a sign of work for so long it counts as idle
	RestAfter     time.Duration // the usual time without a sign until it is stopped
	RestAfterMost time.Duration // the longest that may be asked for
	WarnBefore    time.Duration
	CPUFloorMilli int64         // thousandths of a core; more is a sign of work
	HoldMost      time.Duration // the longest hold
	// WakeOnly are the doors by which whoever comes has a stopped workspace started;
	// nil is each of [Doors].
	WakeOnly []string
}

// Doors are those by which a workspace can be woken.
var Doors = []string{"ssh", "ports", "terminals", "files"}

// Wakes tells whether whoever comes by a door has a stopped workspace started.
func (i Idle) Wakes(door string) bool {
	return i.WakeOnly == nil || slices.Contains(i.WakeOnly, door)
}

// Money is millionths of the currency's unit.
type Money int64

// Rates are the prices.
type Rates struct {
	RunningHour     map[string]Money // by size
	StorageGiBMonth Money            // of a workspace's disk; a month is 730 hours
	PrebuildMinute  Money
}

// Finding is one thing that is wrong with the document, and where.
type Finding struct {
	Line   int    `json:"line"`   // from 1
	Column int    `json:"column"` // from 1
	What   string `json:"what"`
	Fix    string `json:"fix,omitempty"`
}

func (f Finding) String() string {
	s := fmt.Sprintf("%d:%d: %s", f.Line, f.Column, f.What)
	if f.Fix != "" {
		s += "; " + f.Fix
	}
	return s
}

// ParseDuration reads a length of time: a number and a unit (s, min, h, days),
// or several of them, as in "1 h 30 min".
func ParseDuration(s string) (time.Duration, error) {
	units := map[string]time.Duration{"s": time.Second, "min": time.Minute, "m": time.Minute, "h": time.Hour, "d": 24 * time.Hour, "day": 24 * time.Hour, "days": 24 * time.Hour}
	var total time.Duration
	rest := strings.TrimSpace(s)
	if rest == "" {
		return 0, fmt.Errorf("a length of time is missing; write one like 45 min")
	}
	for rest != "" {
		n := 0
		for n < len(rest) && (rest[n] >= '0' && rest[n] <= '9' || rest[n] == '.') {
			n++
		}
		number, err := strconv.ParseFloat(rest[:n], 64)
		if err != nil {
			return 0, fmt.Errorf("%q is no length of time; write one like 45 min, 8 h or 30 days", s)
		}
		rest = strings.TrimSpace(rest[n:])
		n = 0
		for n < len(rest) && rest[n] >= 'a' && rest[n] <= 'z' {
			n++
		}
		unit, ok := units[rest[:n]]
		switch {
		case rest == "":
			return 0, fmt.Errorf("%q has no unit; write min, h or days behind the number", s)
		case !ok:
			return 0, fmt.Errorf("%q is no unit of time in %q; use s, min, h or days", strings.Fields(rest)[0], s)
		case float64(total)+number*float64(unit) > float64(400*24*time.Hour): // the whole, not a part of it
			return 0, fmt.Errorf("%q is longer than 400 days", s)
		}
		total += time.Duration(number * float64(unit))
		rest = strings.TrimSpace(rest[n:])
	}
	return total, nil
}

// ParseBytes reads an amount of memory or disk: a number and MiB, GiB or TiB.
func ParseBytes(s string) (int64, error) {
	s = strings.TrimSpace(s)
	n := strings.IndexFunc(s, func(r rune) bool { return (r < '0' || r > '9') && r != '.' })
	if n < 0 {
		return 0, fmt.Errorf("%q has no unit; write MiB or GiB behind the number", s)
	}
	unit := strings.TrimSpace(s[n:])
	number, err := strconv.ParseFloat(s[:n], 64)
	if err != nil {
		return 0, fmt.Errorf("%q is no amount; write one like 4 GiB", s)
	}
	shift, ok := map[string]int{"MiB": 20, "GiB": 30, "TiB": 40}[unit]
	if !ok {
		near := map[string]string{"GB": "GiB", "G": "GiB", "gb": "GiB", "gib": "GiB", "MB": "MiB", "M": "MiB", "mb": "MiB", "mib": "MiB", "TB": "TiB", "T": "TiB"}[unit]
		if near != "" {
			return 0, fmt.Errorf("%q is no unit here; did you mean %s? (1 %s = 1024 of the next smaller)", unit, near, near)
		}
		return 0, fmt.Errorf("%q is no unit of memory or disk in %q; use MiB, GiB or TiB", unit, s)
	}
	v := number * float64(int64(1)<<shift)
	if v < 1<<20 || v > 1<<50 {
		return 0, fmt.Errorf("%q is out of bounds: from 1 MiB to 1024 TiB", s)
	}
	return int64(v), nil
}

// parseThousandths reads a decimal number with at most three decimals.
func parseThousandths(s string) (int64, error) {
	return decimal(s, 3)
}

// decimal reads a non-negative decimal number into an integer count of
// 10^-places, exactly.
func decimal(s string, places int) (int64, error) {
	r, ok := new(big.Rat).SetString(s)
	if !ok || strings.ContainsAny(s, "/eExXpP_") {
		return 0, fmt.Errorf("%q is no number", s)
	}
	r.Mul(r, new(big.Rat).SetInt(new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(places)), nil)))
	switch {
	case !r.IsInt():
		return 0, fmt.Errorf("%q has more than %d decimals", s, places)
	case r.Sign() < 0:
		return 0, fmt.Errorf("%q is less than nothing", s)
	case !r.Num().IsInt64() || r.Num().Int64() > 1e15:
		return 0, fmt.Errorf("%q is too large", s)
	}
	return r.Num().Int64(), nil
}

// Duration writes a length of time as ParseDuration reads it.
func Duration(d time.Duration) string {
	switch {
	case d >= 48*time.Hour && d%(24*time.Hour) == 0:
		return fmt.Sprintf("%d days", d/(24*time.Hour))
	case d >= time.Hour && d%time.Hour == 0:
		return fmt.Sprintf("%d h", d/time.Hour)
	case d >= time.Hour && d%time.Minute == 0:
		return fmt.Sprintf("%d h %d min", d/time.Hour, d%time.Hour/time.Minute)
	case d >= time.Minute && d%time.Minute == 0:
		return fmt.Sprintf("%d min", d/time.Minute)
	}
	return strconv.FormatFloat(d.Seconds(), 'f', -1, 64) + " s"
}

// Bytes writes an amount as ParseBytes reads it.
func Bytes(n int64) string {
	if n%(1<<30) == 0 || n >= 10<<30 {
		return strconv.FormatFloat(float64(n)/(1<<30), 'f', -1, 64) + " GiB"
	}
	return strconv.FormatFloat(float64(n)/(1<<20), 'f', -1, 64) + " MiB"
}

// Thousandths writes cores.
func Thousandths(n int64) string { return strconv.FormatFloat(float64(n)/1000, 'f', -1, 64) }

// Amount writes a limit's number with its unit.
func Amount(k Kind, n int64) string {
	switch k {
	case Cores:
		return Thousandths(n)
	case Memory:
		return Bytes(n)
	}
	return strconv.FormatInt(n, 10)
}

// Decimal writes money without a currency, trailing zeros cut to two places.
func (m Money) Decimal() string {
	sign := ""
	if m < 0 {
		sign, m = "-", -m
	}
	s := fmt.Sprintf("%s%d.%06d", sign, m/1e6, m%1e6)
	for strings.HasSuffix(s, "0") && len(s)-strings.IndexByte(s, '.') > 3 {
		s = s[:len(s)-1]
	}
	return s
}

// values flattens the rules into what Diff compares.
func (r Rules) values() map[string]string {
	zone := ""
	if r.Zone != nil {
		zone = r.Zone.String()
	}
	v := map[string]string{
		"organisation": r.Organisation, "currency": r.Currency, "time_zone": zone, "usual_size": r.UsualSize,
		"idle.quiet_after": Duration(r.Idle.QuietAfter), "idle.rest_after": Duration(r.Idle.RestAfter), "idle.rest_after_most": Duration(r.Idle.RestAfterMost),
		"idle.warn_before": Duration(r.Idle.WarnBefore), "idle.cpu_floor": Thousandths(r.Idle.CPUFloorMilli), "idle.hold_most": Duration(r.Idle.HoldMost),
		"idle.wake":               wakes(r.Idle),
		"retention.stopped_most":  Duration(r.StoppedMost),
		"rates.storage_gib_month": r.Rates.StorageGiBMonth.Decimal(), "rates.prebuild_minute": r.Rates.PrebuildMinute.Decimal(),
	}
	if r.LogsMost > 0 {
		v["retention.logs_most"] = Duration(r.LogsMost)
	}
	for n, s := range r.Sizes {
		v["sizes."+n] = fmt.Sprintf("%s cores, %s memory, %s disk", Thousandths(s.CoresMilli), Bytes(s.MemoryBytes), Bytes(s.DiskBytes))
	}
	for n, m := range r.Rates.RunningHour {
		v["rates.running_hour."+n] = m.Decimal()
	}
	r.allowValues(v)
	r.Ports.values(v)
	r.Terminals.values(v)
	r.SignIn.values(v)
	r.Secrets.values(v)
	r.Git.values(v)
	r.Announcement.values(v)
	amounts := func(path string, a Amounts) {
		for k, n := range a {
			v[path+"."+string(k)] = Amount(k, n)
		}
	}
	r.endValues(v)
	amounts("limits.person", r.Limits.Person)
	amounts("limits.team", r.Limits.Team)
	for n, a := range r.Limits.People {
		amounts("limits.people."+n, a)
	}
	for n, a := range r.Limits.Teams {
		amounts("limits.teams."+n, a)
	}
	return v
}

// Diff tells what is different in the new rules, a line each, sorted.
func Diff(old, new Rules) []string {
	a, b := old.values(), new.values()
	var out []string
	for k, v := range a {
		switch w, ok := b[k]; {
		case !ok:
			out = append(out, fmt.Sprintf("%s: %s → none", k, v))
		case w != v:
			out = append(out, fmt.Sprintf("%s: %s → %s", k, v, w))
		}
	}
	for k, v := range b {
		if _, ok := a[k]; !ok {
			out = append(out, fmt.Sprintf("%s: none → %s", k, v))
		}
	}
	sort.Strings(out)
	return out
}

func wakes(i Idle) string {
	switch {
	case i.WakeOnly == nil:
		return strings.Join(Doors, ", ")
	case len(i.WakeOnly) == 0:
		return "none"
	}
	return strings.Join(i.WakeOnly, ", ")
}
