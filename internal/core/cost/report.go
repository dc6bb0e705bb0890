package cost

import (
	"math/big"
	"sort"
	"time"

	"yardbench/internal/core/rules"
)

// Interval is metered time of one kind. A zero To means that it goes on.
type Interval struct {
	Workspace, Owner, Team, Repository string // names, for grouping
	Kind                               Kind
	Size                               string
	DiskBytes                          int64
	From, To                           time.Time
}

// Since is the rates that are in force from a time on.
type Since struct {
	Version int // of the house rules
	From    time.Time
	Rates   rules.Rates
}

// Sum is metered time that is over, of one kind and price.
type Sum struct {
	Kind      Kind
	Size      string
	DiskBytes int64
	Version   int // of the house rules whose rates were in force
	Time      time.Duration
}

// Price is what sums of time that is over come to, and what goes on, until now:
// the same as [Report] makes of all the intervals.
func Price(over []Sum, open []Interval, rates []Since, now time.Time) Row {
	row := gathered(over, open, rates, now)
	row.price(rates)
	return row
}

// gathered is the row of [Price], without money.
func gathered(over []Sum, open []Interval, rates []Since, now time.Time) Row {
	row := Row{sums: map[sumKey]int64{}}
	for _, r := range Report(open, rates, time.Time{}, now, now, ByAll, time.UTC) {
		row = r
	}
	for _, s := range over {
		k := sumKey{kind: s.Kind}
		for n, r := range rates {
			if r.Version <= s.Version { // one that cannot be read any more has the prices before it
				k.version = n
			}
		}
		if s.Kind == Stored {
			k.disk = s.DiskBytes
		} else {
			k.size = s.Size
		}
		row.sums[k] += s.Time.Microseconds()
	}
	return Row{Key: row.Key, sums: row.sums}
}

// By is what a report is grouped by.
type By string

// The groupings.
const (
	ByPerson     By = "person"
	ByTeam       By = "team"
	ByRepository By = "repository"
	ByWorkspace  By = "workspace"
	ByDay        By = "day"
	ByAll        By = "all"
)

// Groupings lists what people may ask for.
var Groupings = []By{ByPerson, ByTeam, ByRepository, ByWorkspace, ByDay}

// Only narrows a report, by the names that [Report] groups by; empty fields do not.
type Only struct{ Team, Person, Repository, Workspace string }

// Of gives the intervals that are meant.
func (o Only) Of(all []Interval) []Interval {
	if o == (Only{}) {
		return all
	}
	fits := func(want, is string) bool { return want == "" || want == is }
	var out []Interval
	for _, i := range all {
		if fits(o.Team, i.Team) && fits(o.Person, i.Owner) && fits(o.Repository, i.Repository) && fits(o.Workspace, i.Workspace) {
			out = append(out, i)
		}
	}
	return out
}

// Row is one line of a report. Running holds the time worked in and not the
// idle time, which stands apart.
type Row struct {
	Key                         string
	Running, Idle, Prebuild     time.Duration
	StoredGiBHours              float64
	RunningMoney, IdleMoney     rules.Money
	StorageMoney, PrebuildMoney rules.Money
	Total                       rules.Money
	sums                        map[sumKey]int64 // microseconds
}

// sumKey gathers time that has one price.
type sumKey struct {
	kind    Kind
	size    string
	disk    int64
	version int
}

const gib = 1 << 30

// monthHours is the length of a month for the price of storage.
const monthHours = 730

// Report prices what was metered between from and to (to is not part of it),
// grouped, the costliest first, days in their order. Time that goes on counts
// until now. rates are in the order of time; what lies before the first has
// the first's prices.
func Report(intervals []Interval, rates []Since, from, to, now time.Time, by By, zone *time.Location) []Row {
	rows := map[string]*Row{}
	if to.After(now) {
		to = now
	}
	for _, i := range intervals {
		end := i.To
		if end.IsZero() || end.After(to) {
			end = to
		}
		start := i.From
		if start.Before(from) {
			start = from
		}
		for start.Before(end) {
			part, version := end, 0
			for n, r := range rates {
				if n == 0 || !r.From.After(start) {
					version = n
				} else if r.From.Before(part) {
					part = r.From
				}
			}
			key := i.key(by)
			if by == ByDay {
				local := start.In(zone)
				key = local.Format("2006-01-02")
				if next := time.Date(local.Year(), local.Month(), local.Day()+1, 0, 0, 0, 0, zone); next.Before(part) {
					part = next
				}
			}
			row := rows[key]
			if row == nil {
				row = &Row{Key: key, sums: map[sumKey]int64{}}
				rows[key] = row
			}
			k := sumKey{kind: i.Kind, version: version}
			if i.Kind == Stored {
				k.disk = i.DiskBytes
			} else {
				k.size = i.Size
			}
			row.sums[k] += part.Sub(start).Microseconds()
			start = part
		}
	}
	out := make([]Row, 0, len(rows))
	for _, r := range rows {
		r.price(rates)
		out = append(out, *r)
	}
	sort.Slice(out, func(a, b int) bool {
		if by != ByDay && out[a].Total != out[b].Total {
			return out[a].Total > out[b].Total
		}
		return out[a].Key < out[b].Key
	})
	return out
}

func (i Interval) key(by By) string {
	switch by {
	case ByPerson:
		return i.Owner
	case ByTeam:
		return i.Team
	case ByRepository:
		return i.Repository
	case ByWorkspace:
		return i.Workspace
	}
	return ""
}

// price turns a row's times into money: exact rationals, each rounded once,
// the total from the exact sum.
func (r *Row) price(rates []Since) {
	running, idle, stored, before, gibHours := new(big.Rat), new(big.Rat), new(big.Rat), new(big.Rat), new(big.Rat)
	for k, us := range r.sums {
		money := new(big.Rat).Mul(k.perMicrosecond(rates), new(big.Rat).SetInt64(us))
		switch k.kind {
		case Running:
			r.Running += time.Duration(us) * time.Microsecond
			running.Add(running, money)
		case Idle:
			r.Idle += time.Duration(us) * time.Microsecond
			idle.Add(idle, money)
		case Stored:
			gibHours.Add(gibHours, new(big.Rat).Mul(big.NewRat(us, time.Hour.Microseconds()), big.NewRat(k.disk, gib)))
			stored.Add(stored, money)
		case Prebuild:
			r.Prebuild += time.Duration(us) * time.Microsecond
			before.Add(before, money)
		}
	}
	r.StoredGiBHours, _ = gibHours.Float64() // for people to read: the nearest will do
	r.RunningMoney, r.IdleMoney, r.StorageMoney, r.PrebuildMoney = round(running), round(idle), round(stored), round(before)
	sum := new(big.Rat)
	for _, part := range []*big.Rat{running, idle, stored, before} {
		sum.Add(sum, part)
	}
	r.Total = round(sum)
}

// perMicrosecond is what a microsecond of its time costs, exactly.
func (k sumKey) perMicrosecond(rates []Since) *big.Rat {
	var rate rules.Rates
	if k.version < len(rates) {
		rate = rates[k.version].Rates
	}
	switch k.kind {
	case Stored:
		hours := big.NewRat(int64(rate.StorageGiBMonth), monthHours*time.Hour.Microseconds())
		return hours.Mul(hours, big.NewRat(k.disk, gib))
	case Prebuild:
		return big.NewRat(int64(rate.PrebuildMinute), time.Minute.Microseconds())
	}
	return big.NewRat(int64(rate.RunningHour[k.size]), time.Hour.Microseconds())
}

// round rounds half away from zero.
func round(r *big.Rat) rules.Money {
	n := new(big.Int).Mul(r.Num(), big.NewInt(2))
	n.Add(n, r.Denom())
	n.Div(n, new(big.Int).Mul(r.Denom(), big.NewInt(2))) // amounts are never negative
	return rules.Money(n.Int64())
}

// Hourly is what a running workspace of a size costs in an hour, its disk
// with it.
func Hourly(r rules.Rates, size string, s rules.Size) rules.Money {
	disk := new(big.Rat).Mul(big.NewRat(int64(r.StorageGiBMonth), monthHours), big.NewRat(s.DiskBytes, gib))
	return r.RunningHour[size] + round(disk)
}
