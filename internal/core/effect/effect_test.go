package effect

import (
	"slices"
	"testing"
	"time"

	"yardbench/internal/core/rules"
)

var now = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

// house is the first rules with other lengths of time, put now over them.
func house(t *testing.T, change func(*rules.Rules)) (was, would rules.Rules) {
	t.Helper()
	was, findings := rules.Parse([]byte(rules.First))
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	would = was
	change(&would)
	return was, would.PutOver(was, now)
}

// runs is a workspace that was last worked in some time ago, under both rules.
func runs(name string, ago time.Duration, was, would rules.Rules) Stand {
	last := now.Add(-ago)
	ends := func(r rules.Rules) time.Time {
		at := last.Add(r.Idle.RestAfter)
		if b := r.RestsNotBefore(0); b.After(at) {
			return b
		}
		return at
	}
	return Stand{Name: name, Owner: "ingrid", Team: "Harbour", Size: rules.Size{CoresMilli: 1000, MemoryBytes: 1 << 30}, Counts: true, Was: ends(was), Would: ends(would)}
}

func stopped(name string, ago time.Duration, clean bool, was, would rules.Rules) Stand {
	at := now.Add(-ago)
	return Stand{Name: name, Owner: "mats", Stopped: true, Clean: clean, Was: was.RemovesAt(at), Would: would.RemovesAt(at)}
}

// Everybody whose time is over by the new rules rests after the time of warning, and
// not before; who would have rested in any case is not counted to the change.
func TestRests(t *testing.T) {
	was, would := house(t, func(r *rules.Rules) { r.Idle.RestAfter = 40 * time.Second })
	fleet := []Stand{runs("a", time.Minute, was, would), runs("b", 30*time.Minute, was, would), runs("c", 10*time.Second, was, would), runs("due", 57*time.Minute, was, would)}
	out := Of(now, was, would, fleet)
	if len(out) != 1 || out[0].Kind != Rests || out[0].Of != 4 || !slices.Equal(out[0].Names, []string{"a.ingrid", "b.ingrid", "c.ingrid"}) || !out[0].Wide {
		t.Fatalf("it comes to %+v", out)
	}
	if !out[0].At.Equal(now.Add(would.Idle.WarnBefore)) {
		t.Errorf("the first rests at %v", out[0].At)
	}
	// One of many is no large part; nor is one alone.
	many := []Stand{fleet[0]}
	for range 3 {
		many = append(many, Stand{Name: "never", Owner: "peder", Counts: true})
	}
	if out := Of(now, was, would, many); len(out) != 1 || out[0].Wide {
		t.Errorf("one of four comes to %+v", out)
	}
	// Longer rules do nothing.
	back := was.PutOver(would, now)
	if out := Of(now, would, back, []Stand{runs("a", time.Minute, would, back), runs("b", 30*time.Minute, would, back)}); len(out) > 0 {
		t.Errorf("longer rules come to %+v", out)
	}
}

func TestRemoved(t *testing.T) {
	was, would := house(t, func(r *rules.Rules) { r.StoppedMost = time.Hour })
	day := 24 * time.Hour
	fleet := []Stand{stopped("a", 2*day, true, was, would), stopped("b", 20*day, true, was, would), stopped("work", 3*day, false, was, would), stopped("due", 30*day-time.Hour, true, was, would)}
	out := Of(now, was, would, fleet)
	if len(out) != 2 || out[0].Kind != Removed || !slices.Equal(out[0].Names, []string{"a.mats", "b.mats"}) || !out[0].Wide || out[1].Kind != Stays || !slices.Equal(out[1].Names, []string{"work.mats"}) || out[1].Wide {
		t.Fatalf("it comes to %+v", out)
	}
	if !out[0].At.Equal(now.Add(day)) {
		t.Errorf("the first is removed at %v", out[0].At)
	}
}

// Who is over a limit by the new rules is told; who was over it before is not told again.
func TestOver(t *testing.T) {
	was, would := house(t, func(r *rules.Rules) {
		r.Limits.Person = rules.Amounts{rules.Running: 1}
		r.Limits.Team = rules.Amounts{rules.Memory: 2 << 30}
	})
	fleet := []Stand{runs("a", 0, was, was), runs("b", 0, was, was), runs("c", 0, was, was), stopped("d", 0, true, was, was)}
	out := Of(now, was, would, fleet)
	if len(out) != 2 || out[0].Names[0] != "ingrid" || len(out[0].Lines) != 1 || out[0].Lines[0].Used != 3 || out[0].Lines[0].Allowed != 1 || out[1].Names[0] != "team Harbour" || out[1].Lines[0].Kind != rules.Memory {
		t.Fatalf("it comes to %+v", out)
	}
	if out := Of(now, would, would, fleet); len(out) > 0 {
		t.Errorf("no change comes to %+v", out)
	}
}
