package idle

import (
	"math/rand/v2"
	"testing"
	"time"
)

var noon = time.Date(2026, 11, 2, 12, 0, 0, 0, time.UTC)

func at(min float64) time.Time { return noon.Add(time.Duration(min * float64(time.Minute))) }

var terms = Terms{Quiet: 5 * time.Minute, Rest: 45 * time.Minute, Warn: 5 * time.Minute}

func TestVerdicts(t *testing.T) {
	for _, c := range []struct {
		name             string
		now              float64
		signs            Signs
		hold             float64
		idle, warn, stop bool
		what             string
		next             float64 // minutes; 0 for none
	}{
		{"fresh", 1, Signs{Up: noon}, 0, false, false, false, "it came up", 5},
		{"quiet", 5, Signs{Up: noon}, 0, true, false, false, "it came up", 40},
		{"warned", 40, Signs{Up: noon}, 0, true, true, false, "it came up", 45},
		{"rest", 45, Signs{Up: noon}, 0, true, false, true, "it came up", 0},
		{"typed since", 45, Signs{Up: noon, Typed: at(43)}, 0, false, false, false, "something was typed", 48},
		{"read since", 50, Signs{Up: noon, Typed: at(10), Read: at(44)}, 0, true, false, false, "output was read", 84},
		{"a port asked", 12, Signs{Up: noon, Port: at(11), Number: 8000}, 0, false, false, false, "port 8000 was asked", 16},
		{"busy", 30, Signs{Up: noon, Busy: at(29)}, 0, false, false, false, "its processor was busy", 34},
		{"held", 60, Signs{Up: noon}, 120, true, false, false, "it came up", 115},
		{"the hold ends first", 8, Signs{Up: noon}, 10, true, false, false, "it came up", 10},
		{"held to the end", 120, Signs{Up: noon}, 120, true, false, true, "it came up", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			tm := terms
			if c.hold > 0 {
				tm.Hold = at(c.hold)
			}
			v := Judge(at(c.now), c.signs, tm)
			if v.Idle != c.idle || v.Warn != c.warn || v.Stop != c.stop || v.What != c.what {
				t.Errorf("judged %+v", v)
			}
			if want := at(c.next); (c.next == 0) != v.Next.IsZero() || (c.next > 0 && !v.Next.Equal(want)) {
				t.Errorf("looked at again at %s, not %s", v.Next, want)
			}
		})
	}
}

// Looked at only when a verdict says so, and at each sign: it is stopped at the
// very time that it should be, warned before, and never while held.
func TestNothingIsMissedBetweenLooks(t *testing.T) {
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 7))
		s := Signs{Up: noon}
		tm := terms
		if r.IntN(2) == 0 {
			tm.Hold = at(float64(r.IntN(200)))
		}
		now, warned := noon, false
		for range 10_000 {
			v := Judge(now, s, tm)
			warned = warned || v.Warn
			if v.Stop {
				last, _ := s.Last()
				due := last.Add(tm.Rest)
				if tm.Hold.After(due) {
					due = tm.Hold
				}
				if !now.Equal(due) || !warned {
					t.Fatalf("seed %d: stopped at %s, due at %s, warned %v", seed, now, due, warned)
				}
				break
			}
			if !v.Next.After(now) {
				t.Fatalf("seed %d: looks again at %s, which is not after %s", seed, v.Next, now)
			}
			now = v.Next
			if sign := now.Add(-time.Duration(r.IntN(600)) * time.Second); r.IntN(4) == 0 && sign.After(s.Up) && sign.Before(at(300)) {
				s.Typed, warned = sign, false
			}
		}
	}
}

// What is not ours to put to rest is told to be idle, and no more.
func TestNeverStopped(t *testing.T) {
	up := time.Date(2026, 3, 2, 8, 0, 0, 0, time.UTC)
	terms := Terms{Quiet: 10 * time.Minute, Rest: time.Hour, Warn: 5 * time.Minute, Never: true}
	if v := Judge(up.Add(time.Minute), Signs{Up: up}, terms); v.Idle || !v.Next.Equal(up.Add(10*time.Minute)) {
		t.Errorf("just up it is %+v", v)
	}
	if v := Judge(up.Add(30*24*time.Hour), Signs{Up: up}, terms); !v.Idle || v.Stop || v.Warn || !v.StopAt.IsZero() || !v.Next.IsZero() {
		t.Errorf("after a month it is %+v", v)
	}
}
