package rules

import (
	"slices"
	"strings"
	"testing"
	"time"
)

func TestEnds(t *testing.T) {
	text := strings.Replace(First, "  person: {existing: 8, running: 4}\n", "  person: {existing: 8, running: 4}\n  people:\n    bo: {running: 6, until: 2026-11-28}\n  teams:\n    Decks: {running: 9, until: 2026-12-01T08:00:00Z}\nallow:\n  repositories:\n    tide-board: {privileged: yes, until: 2026-12-24}\nstarters: starters\n", 1)
	text = strings.Replace(text, "time_zone: UTC", "time_zone: Europe/Oslo", 1)
	whole, findings := Parse([]byte(text))
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	for at, want := range map[string]struct {
		bo, decks  int64
		privileged bool
		next       string
	}{
		"2026-11-28T22:59:59Z": {6, 9, true, "2026-11-28T23:00:00Z"}, "2026-11-28T23:00:00Z": {4, 9, true, "2026-12-01T08:00:00Z"},
		"2026-12-01T08:00:00Z": {4, 0, true, "2026-12-24T23:00:00Z"}, "2026-12-24T23:00:00Z": {4, 0, false, ""},
	} {
		now, _ := time.Parse(time.RFC3339, at)
		r, next := whole.At(now)
		if r.Limits.OfPerson("bo")[Running] != want.bo || r.Limits.OfTeam("Decks")[Running] != want.decks || r.AllowFor("tide-board").Privileged != want.privileged {
			t.Errorf("at %s it is %+v, %+v", at, r.Limits, r.AllowIn)
		}
		if want := map[string]int{"2026-11-28T23:00:00Z": 1, "2026-12-01T08:00:00Z": 2, "2026-12-24T23:00:00Z": 3}[at]; r.Ended != want {
			t.Errorf("at %s %d have ended", at, r.Ended)
		}
		if got := next.UTC().Format(time.RFC3339); !next.IsZero() && got != want.next || next.IsZero() && want.next != "" {
			t.Errorf("at %s the next end is %s", at, got)
		}
	}
	if len(whole.Limits.People) != 1 || len(whole.AllowIn) != 1 {
		t.Error("what is read is changed by what has ended")
	}
	var named []string
	for _, n := range whole.Names {
		named = append(named, n.Kind+" "+n.Name)
	}
	if slices.Sort(named); !slices.Equal(named, []string{"person bo", "repository starters", "repository tide-board", "team Decks"}) {
		t.Errorf("it names %q", named)
	}
	other, _ := Parse([]byte(strings.Replace(text, "until: 2026-11-28", "until: 2026-11-29", 1)))
	if got := Diff(whole, other); !slices.Equal(got, []string{"limits.people.bo.until: the end of 2026-11-28 → the end of 2026-11-29"}) {
		t.Errorf("the difference is %q", got)
	}
	for _, bad := range []string{"Friday", "2026-13-01", "''", "[1]"} {
		if _, findings := Parse([]byte(strings.Replace(text, "until: 2026-11-28", "until: "+bad, 1))); len(findings) == 0 {
			t.Errorf("until %s is taken", bad)
		}
	}
	if _, findings := Parse([]byte(strings.Replace(First, "running: 4}", "running: 4, until: 2026-11-28}", 1))); len(findings) == 0 {
		t.Error("everyone's limit may end")
	}
}

func TestSinceWhen(t *testing.T) {
	at := func(hour int) time.Time { return time.Date(2026, 11, 28, hour, 0, 0, 0, time.UTC) }
	put := func(hour int, rest, most time.Duration) Put {
		return Put{Rules{Idle: Idle{RestAfter: rest, RestAfterMost: most, WarnBefore: 5 * time.Minute}, StoppedMost: most}, at(hour)}
	}
	for name, c := range map[string]struct {
		puts       []Put
		rest, most time.Time
	}{
		"the first":                      {[]Put{put(1, time.Hour, 9*time.Hour)}, time.Time{}, time.Time{}},
		"sooner":                         {[]Put{put(1, time.Hour, 9*time.Hour), put(2, time.Minute, 9*time.Hour)}, at(2), time.Time{}},
		"something else since":           {[]Put{put(1, time.Hour, 9*time.Hour), put(2, time.Minute, 9*time.Hour), put(3, time.Minute, 8*time.Hour)}, at(2), at(3)},
		"later again":                    {[]Put{put(1, time.Hour, 9*time.Hour), put(2, time.Minute, 9*time.Hour), put(3, time.Hour, 9*time.Hour)}, time.Time{}, time.Time{}},
		"later, but not as late as once": {[]Put{put(1, time.Hour, 9*time.Hour), put(2, time.Minute, 9*time.Hour), put(3, 30*time.Minute, 9*time.Hour)}, at(2), time.Time{}},
	} {
		got := SinceWhen(c.puts)
		if !got.Rest.Equal(c.rest) || !got.RestMost.Equal(c.most) || !got.Removal.Equal(c.most) {
			t.Errorf("%s: %+v", name, got)
		}
		r := c.puts[len(c.puts)-1].Rules
		r.Sooner = got
		if b := r.RestsNotBefore(0); !c.rest.IsZero() && !b.Equal(c.rest.Add(5*time.Minute)) || c.rest.IsZero() && !b.IsZero() {
			t.Errorf("%s: it rests not before %v", name, b)
		}
		if b := r.RestsNotBefore(time.Minute); !b.IsZero() {
			t.Errorf("%s: what asked for less is kept until %v", name, b)
		}
		if b := r.RestsNotBefore(10 * time.Hour); c.most.IsZero() != b.IsZero() {
			t.Errorf("%s: what asked for more than the most is kept until %v", name, b)
		}
	}
}
