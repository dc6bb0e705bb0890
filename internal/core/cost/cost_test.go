package cost

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/rules"
)

var noon = time.Date(2026, 11, 2, 12, 0, 0, 0, time.UTC)

// life walks a workspace through random allowed phases, with idle times, and
// gives what the journal would say.
func life(r *rand.Rand) (events []Event) {
	phase, at := lifecycle.Waiting, noon
	for phase != lifecycle.Removed && len(events) < 60 {
		at = at.Add(time.Duration(r.IntN(4000)) * time.Second)
		if phase == lifecycle.Ready && r.IntN(2) == 0 {
			since := at.Add(-time.Duration(r.IntN(5000)) * time.Second) // it may reach back too far
			events = append(events, Event{At: at, Idle: true, Since: since})
			if r.IntN(2) == 0 {
				at = at.Add(time.Duration(r.IntN(4000)) * time.Second)
				events = append(events, Event{At: at, Awake: true})
			}
			continue
		}
		next := phase.Next()
		phase = next[r.IntN(len(next))]
		events = append(events, Event{At: at, Phase: phase})
	}
	return events
}

type interval struct {
	kind     Kind
	from, to time.Time
}

func metered(events []Event, prebuild bool) (out []interval, open map[Kind]time.Time) {
	open = map[Kind]time.Time{}
	for _, e := range events {
		for _, c := range Apply(open, prebuild, e) {
			if c.Open {
				open[c.Kind] = c.At
			} else {
				out = append(out, interval{c.Kind, open[c.Kind], c.At})
				delete(open, c.Kind)
			}
		}
	}
	return out, open
}

// Whatever a life is: running and idle time never overlap, and together they
// are exactly the time in which a body was up; storage is from the first
// start to the removal; nothing stays open after it.
func TestMeteringCoversExactlyWhatRan(t *testing.T) {
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 11))
		events := life(r)
		got, open := metered(events, false)
		var want time.Duration
		var since, stored time.Time
		for _, e := range events {
			if e.Phase == "" {
				continue
			}
			up := e.Phase == lifecycle.Starting || e.Phase == lifecycle.Ready || e.Phase == lifecycle.Stopping
			if up && since.IsZero() {
				since = e.At
			}
			if up && stored.IsZero() {
				stored = e.At
			}
			if !up && !since.IsZero() {
				want += e.At.Sub(since)
				since = time.Time{}
			}
		}
		var sum, kept time.Duration
		for i, a := range got {
			if a.to.Before(a.from) {
				t.Fatalf("seed %d: an interval runs backwards: %v", seed, a)
			}
			if a.kind == Stored {
				kept += a.to.Sub(a.from)
				continue
			}
			sum += a.to.Sub(a.from)
			for _, b := range got[:i] {
				if b.kind != Stored && a.from.Before(b.to) && b.from.Before(a.to) {
					t.Fatalf("seed %d: %v overlaps %v", seed, a, b)
				}
			}
		}
		if !since.IsZero() { // it still runs: what is open counts to the end
			end := events[len(events)-1].At
			want += end.Sub(since)
			for k, from := range open {
				if k != Stored {
					sum += end.Sub(from)
				}
			}
		}
		if sum != want {
			t.Fatalf("seed %d: metered %s, ran %s\n%v", seed, sum, want, events)
		}
		if last := events[len(events)-1]; last.Phase == lifecycle.Removed {
			if len(open) > 0 {
				t.Fatalf("seed %d: removed, and %v goes on", seed, open)
			}
			if !stored.IsZero() && kept != last.At.Sub(stored) {
				t.Fatalf("seed %d: stored %s of %s", seed, kept, last.At.Sub(stored))
			}
		}
	}
}

// An idle time that was noticed late counts from when it began, and is waste.
func TestIdleFromItsBeginning(t *testing.T) {
	got, open := metered([]Event{{At: noon, Phase: lifecycle.Starting}, {At: noon.Add(time.Hour), Idle: true, Since: noon.Add(55 * time.Minute)},
		{At: noon.Add(2 * time.Hour), Awake: true}, {At: noon.Add(3 * time.Hour), Phase: lifecycle.Stopped}}, false)
	want := fmt.Sprint([]interval{{Running, noon, noon.Add(55 * time.Minute)}, {Idle, noon.Add(55 * time.Minute), noon.Add(2 * time.Hour)}, {Running, noon.Add(2 * time.Hour), noon.Add(3 * time.Hour)}})
	if fmt.Sprint(got) != want || len(open) != 1 {
		t.Errorf("metered %v, open %v", got, open)
	}
	if got, _ := metered([]Event{{At: noon, Phase: lifecycle.Preparing}, {At: noon.Add(time.Minute), Phase: lifecycle.Starting}, {At: noon.Add(2 * time.Minute), Phase: lifecycle.Removing}}, true); len(got) != 1 || got[0] != (interval{Prebuild, noon, noon.Add(2 * time.Minute)}) {
		t.Errorf("a prebuild is metered %v", got)
	}
}

func rates(small, storage, prebuild rules.Money) rules.Rates {
	return rules.Rates{RunningHour: map[string]rules.Money{"small": small}, StorageGiBMonth: storage, PrebuildMinute: prebuild}
}

// Prices by hand: rates that change in the middle, a night over a day's end
// and a change of the clocks, time that goes on, what lies outside.
func TestReport(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	in := []Interval{
		{Owner: "ingrid", Team: "Timetable", Kind: Running, Size: "small", From: noon, To: noon.Add(2 * time.Hour)},
		{Owner: "ingrid", Team: "Timetable", Kind: Idle, Size: "small", From: noon.Add(2 * time.Hour), To: noon.Add(150 * time.Minute)},
		{Owner: "mats", Team: "Harbour", Kind: Running, Size: "small", From: noon.Add(time.Hour)}, // goes on
		{Owner: "mats", Team: "Harbour", Kind: Stored, DiskBytes: 10 << 30, From: noon.Add(-1000 * time.Hour), To: noon.Add(73 * time.Hour)},
		{Owner: "", Kind: Prebuild, From: noon, To: noon.Add(90 * time.Second)},
	}
	versions := []Since{{1, noon.Add(-time.Hour), rates(60_000, 730_000, 4_000)}, {2, noon.Add(time.Hour), rates(120_000, 730_000, 4_000)}}
	rows := Report(in, versions, noon, noon.Add(24*time.Hour), noon.Add(3*time.Hour), ByPerson, oslo)
	want := "[{mats 2h0m0s 0s 240000 0 30000 0 270000} {ingrid 2h0m0s 30m0s 180000 60000 0 0 240000} { 0s 0s 0 0 0 6000 6000}]"
	var got []string
	for _, r := range rows {
		got = append(got, fmt.Sprintf("{%s %s %s %d %d %d %d %d}", r.Key, r.Running, r.Idle, r.RunningMoney, r.IdleMoney, r.StorageMoney, r.PrebuildMoney, r.Total))
	}
	if fmt.Sprint(got) != want {
		t.Errorf("reported\n%v, not\n%s", got, want)
	}
	// From Saturday evening to Monday morning over the end of summer time: the
	// days have 2, 25 and 6 hours.
	night := []Interval{{Kind: Running, Size: "small", From: time.Date(2026, 10, 24, 22, 0, 0, 0, oslo), To: time.Date(2026, 10, 26, 6, 0, 0, 0, oslo)}}
	days := Report(night, versions, time.Time{}, noon, noon, ByDay, oslo)
	if len(days) != 3 || days[0].Key != "2026-10-24" || days[0].Running != 2*time.Hour || days[1].Running != 25*time.Hour || days[2].Running != 6*time.Hour {
		t.Errorf("the days are %+v", days)
	}
}

// However the same time is cut and grouped, the whole costs the same, and no
// grouping loses any of it.
func TestNoMoneyIsLostInGroups(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 13))
		var in []Interval
		for range 40 {
			from := noon.Add(time.Duration(r.IntN(40*24*3600)) * time.Second)
			in = append(in, Interval{Owner: fmt.Sprint(r.IntN(4)), Team: fmt.Sprint(r.IntN(2)), Repository: fmt.Sprint(r.IntN(3)), Workspace: fmt.Sprint(r.IntN(9)),
				Kind: Kinds[r.IntN(4)], Size: "small", DiskBytes: int64(1+r.IntN(40)) << 30, From: from, To: from.Add(time.Duration(r.IntN(90000)) * time.Second)})
		}
		versions := []Since{{1, noon, rates(rules.Money(r.IntN(1e6)), rules.Money(r.IntN(1e6)), rules.Money(r.IntN(1e5)))}, {2, noon.Add(400 * time.Hour), rates(61_234, 98_765, 3_333)}}
		end := noon.Add(60 * 24 * time.Hour)
		whole := Report(in, versions, noon, end, end, ByAll, time.UTC)[0]
		for _, by := range Groupings {
			var total rules.Money
			var ran time.Duration
			rows := Report(in, versions, noon, end, end, by, time.UTC)
			for _, row := range rows {
				total += row.Total
				ran += row.Running + row.Idle + row.Prebuild
			}
			// Each row is rounded once.
			if diff := total - whole.Total; diff > rules.Money(len(rows)) || -diff > rules.Money(len(rows)) || ran != whole.Running+whole.Idle+whole.Prebuild {
				t.Fatalf("seed %d: by %s it costs %d, in all %d; ran %s", seed, by, total, whole.Total, ran)
			}
			// What is narrowed to a row's name is that row.
			for _, row := range rows {
				only, ok := map[By]Only{ByPerson: {Person: row.Key}, ByTeam: {Team: row.Key}, ByRepository: {Repository: row.Key}, ByWorkspace: {Workspace: row.Key}}[by]
				if !ok {
					continue
				}
				if got := Report(only.Of(in), versions, noon, end, end, ByAll, time.UTC); len(got) != 1 || got[0].Total != row.Total {
					t.Fatalf("seed %d: only %+v costs %+v, its row %d", seed, only, got, row.Total)
				}
			}
		}
	}
}
