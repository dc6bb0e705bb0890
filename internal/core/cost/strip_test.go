package cost

import (
	"strings"
	"testing"
	"time"
)

func TestStrip(t *testing.T) {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	ago := func(minutes int) time.Time { return now.Add(-time.Duration(minutes) * time.Minute) }
	rest := func(n int) string { return strings.Repeat(".", n) }
	for name, c := range map[string]struct {
		metered []Interval
		want    string
	}{
		"nothing":                         {nil, rest(48)},
		"the last half hour, going on":    {[]Interval{{Kind: Running, From: ago(30)}}, rest(47) + "a"},
		"a minute more":                   {[]Interval{{Kind: Running, From: ago(31)}}, rest(46) + "aa"},
		"to the very mark":                {[]Interval{{Kind: Running, From: ago(90), To: ago(60)}}, rest(45) + "a.."},
		"a second over it":                {[]Interval{{Kind: Running, From: ago(90), To: ago(60).Add(time.Second)}}, rest(45) + "aa."},
		"work hides idleness, either way": {[]Interval{{Kind: Running, From: ago(100), To: ago(70)}, {Kind: Idle, From: ago(70), To: ago(10)}, {Kind: Running, From: ago(10)}}, rest(44) + "aaia"},
		"since long ago":                  {[]Interval{{Kind: Idle, From: ago(10_000)}}, strings.Repeat("i", 48)},
		"over before it":                  {[]Interval{{Kind: Running, From: ago(10_000), To: ago(24 * 60)}}, rest(48)},
		"its disk and its prebuild":       {[]Interval{{Kind: Stored, From: ago(600)}, {Kind: Prebuild, From: ago(600)}}, rest(48)},
		"a clock that runs ahead":         {[]Interval{{Kind: Running, From: ago(-5), To: ago(-10)}, {Kind: Running, From: ago(5), To: ago(-60)}}, rest(47) + "a"},
	} {
		if got := Strip(c.metered, now); got != c.want {
			t.Errorf("%s is\n%q, not\n%q", name, got, c.want)
		}
	}
}
