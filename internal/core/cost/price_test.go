package cost

import (
	"testing"
	"time"

	"yardbench/internal/core/rules"
)

// What each kind of time costs, by the rates that were in force, to the number.
func TestPriceOfEachKind(t *testing.T) {
	rates := []Since{
		{Version: 1, From: noon.Add(-10 * time.Hour), Rates: rules.Rates{RunningHour: map[string]rules.Money{"small": 100, "large": 1000}, StorageGiBMonth: 730, PrebuildMinute: 7}},
		{Version: 3, From: noon.Add(-5 * time.Hour), Rates: rules.Rates{RunningHour: map[string]rules.Money{"small": 200, "large": 2000}, StorageGiBMonth: 1460, PrebuildMinute: 9}},
	}
	for name, c := range map[string]struct {
		over []Sum
		want Row
	}{
		"running":                    {[]Sum{{Kind: Running, Size: "small", Version: 1, Time: 2 * time.Hour}}, Row{Running: 2 * time.Hour, RunningMoney: 200, Total: 200}},
		"by a later version":         {[]Sum{{Kind: Running, Size: "large", Version: 3, Time: time.Hour}}, Row{Running: time.Hour, RunningMoney: 2000, Total: 2000}},
		"one that is not read":       {[]Sum{{Kind: Running, Size: "small", Version: 2, Time: time.Hour}}, Row{Running: time.Hour, RunningMoney: 100, Total: 100}},
		"one that is newer":          {[]Sum{{Kind: Running, Size: "small", Version: 9, Time: time.Hour}}, Row{Running: time.Hour, RunningMoney: 200, Total: 200}},
		"idle":                       {[]Sum{{Kind: Idle, Size: "large", Version: 1, Time: 30 * time.Minute}}, Row{Idle: 30 * time.Minute, IdleMoney: 500, Total: 500}},
		"stored":                     {[]Sum{{Kind: Stored, DiskBytes: 10 << 30, Version: 1, Time: 3 * time.Hour}}, Row{StoredGiBHours: 30, StorageMoney: 30, Total: 30}},
		"stored by later rates":      {[]Sum{{Kind: Stored, DiskBytes: 10 << 30, Version: 3, Time: time.Hour}}, Row{StoredGiBHours: 10, StorageMoney: 20, Total: 20}},
		"a prebuild":                 {[]Sum{{Kind: Prebuild, Size: "small", Version: 3, Time: 90 * time.Second}}, Row{Prebuild: 90 * time.Second, PrebuildMoney: 14, Total: 14}},
		"half a unit is rounded up":  {[]Sum{{Kind: Running, Size: "small", Version: 1, Time: 18 * time.Second}}, Row{Running: 18 * time.Second, RunningMoney: 1, Total: 1}},
		"less is not":                {[]Sum{{Kind: Running, Size: "small", Version: 1, Time: 17 * time.Second}}, Row{Running: 17 * time.Second}},
		"rounded once, from the sum": {[]Sum{{Kind: Running, Size: "small", Version: 1, Time: 17 * time.Second}, {Kind: Idle, Size: "small", Version: 1, Time: 17 * time.Second}}, Row{Running: 17 * time.Second, Idle: 17 * time.Second, Total: 1}},
	} {
		got := Price(c.over, nil, rates, noon)
		if got.sums = nil; got.Running != c.want.Running || got.Idle != c.want.Idle || got.Prebuild != c.want.Prebuild || got.StoredGiBHours != c.want.StoredGiBHours ||
			got.RunningMoney != c.want.RunningMoney || got.IdleMoney != c.want.IdleMoney || got.StorageMoney != c.want.StorageMoney || got.PrebuildMoney != c.want.PrebuildMoney || got.Total != c.want.Total {
			t.Errorf("%s: %+v, not %+v", name, got, c.want)
		}
	}
	if got := Price([]Sum{{Kind: Running, Size: "small", Time: time.Hour}}, nil, nil, noon); got.Total != 0 || got.Running != time.Hour {
		t.Errorf("without any rates it is %+v", got)
	}
	if got := Hourly(rates[0].Rates, "large", rules.Size{DiskBytes: 20 << 30}); got != 1020 {
		t.Errorf("an hour costs %d", got)
	}
	// Of two rows the costlier comes first, of days the earlier.
	open := []Interval{{Team: "a", Kind: Running, Size: "small", From: noon.Add(-26 * time.Hour), To: noon.Add(-25 * time.Hour)}, {Team: "b", Kind: Running, Size: "large", From: noon.Add(-time.Hour), To: noon}, {Team: "0", Kind: Running, Size: "small", From: noon.Add(-26 * time.Hour), To: noon.Add(-25 * time.Hour)}}
	rows := Report(open, rates, time.Time{}, noon, noon, ByTeam, time.UTC)
	if len(rows) != 3 || rows[0].Key != "b" || rows[1].Key != "0" || rows[2].Key != "a" {
		t.Errorf("the rows are %+v", rows)
	}
	if rows = Report(open, rates, time.Time{}, noon, noon, ByDay, time.UTC); len(rows) != 2 || rows[0].Key != "2026-11-01" || rows[1].Key != "2026-11-02" {
		t.Errorf("the days are %+v", rows)
	}
}
