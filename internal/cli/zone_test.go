package cli

import (
	"strings"
	"testing"
	"time"
)

// Times are told in the house's zone, which is named once where this machine is in another,
// over a change of the clocks too; whoever has said their own zone is told in that.
func TestTimesOfTheHouse(t *testing.T) {
	before := time.Local
	t.Cleanup(func() { time.Local = before; clock.zone, clock.named = nil, false })
	zone := func(name string) *time.Location {
		t.Helper()
		z, err := time.LoadLocation(name)
		if err != nil {
			t.Fatal(err)
		}
		return z
	}
	winter, summer := time.Date(2025, 10, 26, 1, 30, 0, 0, time.UTC), time.Date(2025, 10, 26, 0, 30, 0, 0, time.UTC) // the hour that comes twice in Oslo
	for _, c := range []struct {
		name, tz, here, house string
		want                  string // of both times, one after the other
	}{
		{"before the service has said it", "", "Asia/Tokyo", "", "2025-10-26 10:30, 2025-10-26 09:30"},
		{"another zone than here's", "", "UTC", "Europe/Oslo", "2025-10-26 02:30 CET, 2025-10-26 02:30"},
		{"the zone of here", "", "Europe/Oslo", "Europe/Oslo", "2025-10-26 02:30, 2025-10-26 02:30"},
		{"over the day", "", "Europe/Oslo", "Pacific/Auckland", "2025-10-26 14:30 NZDT, 2025-10-26 13:30"},
		{"one's own", "Asia/Tokyo", "Asia/Tokyo", "Europe/Oslo", "2025-10-26 10:30, 2025-10-26 09:30"},
		{"one that is not known here", "", "UTC", "Skerry/Line", "2025-10-26 01:30, 2025-10-26 00:30"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Setenv("TZ", c.tz)
			time.Local, clock.zone, clock.named = zone(c.here), nil, false
			if c.house != "" {
				tellIn(c.house)
			}
			if got := when(winter) + ", " + when(summer); got != c.want {
				t.Errorf("they are %s, want %s", got, c.want)
			}
		})
	}
	t.Setenv("TZ", "")
	// What is today is so in the house's zone.
	time.Local, clock.zone, clock.named = time.UTC, nil, false
	tellIn("Pacific/Kiritimati")
	if now := when(time.Now()); !strings.HasPrefix(now, "today ") || !strings.HasSuffix(now, " +14") {
		t.Errorf("now is %s", now)
	}
}
