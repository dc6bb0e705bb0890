package prebuild

import (
	"strings"
	"testing"
	"time"

	"yardbench/internal/bound"
)

func run(n, behind int, fingerprint string) Run {
	return Run{ID: string(rune('a' + n)), Number: n, Fingerprint: fingerprint, Behind: behind, MadeAt: time.Date(2026, 11, n, 5, 30, 0, 0, time.UTC)}
}

func TestChoose(t *testing.T) {
	for _, c := range []struct {
		name string
		runs []Run
		want int
		why  string
	}{
		{"none yet", nil, 0, "no prepared image"},
		{"the least behind", []Run{run(1, 5, "f"), run(2, 3, "f"), run(3, 4, "f")}, 2, ""},
		{"the newest of equals", []Run{run(1, 2, "f"), run(3, 2, "f"), run(2, 2, "f")}, 3, ""},
		{"another definition", []Run{run(1, 0, "g")}, 0, "another definition"},
		{"an older one that fits", []Run{run(1, 7, "f"), run(2, 0, "g")}, 1, ""},
		{"not behind at all", []Run{run(1, 0, "f"), run(2, 1, "f")}, 1, ""},
		{"rewritten", []Run{run(1, -1, "f")}, 0, "does not come from"},
	} {
		t.Run(c.name, func(t *testing.T) {
			best, ok, why := Choose(c.runs, "f")
			if ok != (c.want > 0) || best.Number != c.want || !strings.Contains(why, c.why) || (ok && why != "") {
				t.Errorf("chosen %+v, %v, %q", best, ok, why)
			}
		})
	}
}

func TestDrop(t *testing.T) {
	runs := []Run{run(2, 0, ""), run(4, 0, ""), run(1, 0, ""), run(3, 0, "")}
	if d := Drop(runs, 2); len(d) != 2 || d[0].Number != 2 || d[1].Number != 1 {
		t.Errorf("dropped: %v", d)
	}
	if d := Drop(runs, 9); len(d) != 0 {
		t.Errorf("dropped of too few: %v", d)
	}
}

// The clock is the house's: 05:30 stays 05:30 when the clocks change.
func TestTimetable(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	tt, err := ParseTimetable("30 5 * * 1-5")
	if err != nil {
		t.Fatal(err)
	}
	for from, want := range map[string]string{"2026-10-23T05:30:00": "2026-10-26T05:30:00+01:00", "2026-10-22T23:00:00": "2026-10-23T05:30:00+02:00"} {
		at, err := time.ParseInLocation("2006-01-02T15:04:05", from, oslo)
		if err != nil {
			t.Fatal(err)
		}
		if got := tt.Next(at).Format(time.RFC3339); got != want {
			t.Errorf("after %s comes %s, not %s", from, got, want)
		}
	}
	for _, bad := range []string{"", "5:30", "60 5 * * *", "* * * *", "* * * * * *", "@daily", "x 5 * * *"} {
		if _, err := ParseTimetable(bad); err == nil {
			t.Errorf("%q is taken for a timetable", bad)
		}
	}
}

// FuzzTimetable: what is no timetable is told, and what is one has a next time
// that is found in bounded time.
func FuzzTimetable(f *testing.F) {
	for _, text := range []string{"30 5 * * 1-5", "0 0 30 2 *", "*/7 1,2,3 1-31/2 JAN-DEC MON", "@every 1s", "TZ=Europe/Oslo 0 5 * * *", "99999999999999999999 * * * *", "1-99999999/1 * * * *", "* * * * * *"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if len(text) > 200 {
			return
		}
		bound.Hold(t, 64, func() {
			tt, err := ParseTimetable(text)
			if err != nil {
				return
			}
			at := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
			if next := tt.Next(at); !next.IsZero() && !next.After(at) {
				t.Errorf("%q is due at %s, which is not after %s", text, next, at)
			}
		})
	})
}
