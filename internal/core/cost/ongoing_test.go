package cost

import (
	"math/rand/v2"
	"testing"
	"time"

	"yardbench/internal/core/rules"
)

// At any time what goes on has cost what the report makes of it, to the last
// micro-unit, with ordinary rates and disks and with odd ones.
func TestOngoingIsThePrice(t *testing.T) {
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 17))
		rate := func(n int) rules.Rates {
			return rules.Rates{RunningHour: map[string]rules.Money{"small": rules.Money(r.IntN(200_000)), "large": rules.Money(r.IntN(2_000_000))}, StorageGiBMonth: rules.Money(r.IntN(300_000)), PrebuildMinute: rules.Money(r.IntN(9_000))}
		}
		rates := []Since{{Version: 1, From: noon.Add(-100 * time.Hour), Rates: rate(0)}, {Version: 2, From: noon.Add(-time.Duration(r.IntN(50)) * time.Hour), Rates: rate(1)}}
		disk := int64(1+r.IntN(60)) << 30
		if seed%4 == 0 {
			disk = r.Int64N(1 << 50) // a common denominator of more than 64 bits
		}
		over := []Sum{{Kind: Running, Size: "small", Version: 1, Time: time.Duration(r.Int64N(1e15)) * time.Microsecond / 1000}, {Kind: Idle, Size: "large", Version: 2, Time: time.Duration(r.IntN(1e9)) * time.Microsecond}}
		var open []Interval
		for _, k := range []Kind{Running, Idle, Stored, Prebuild} {
			if r.IntN(2) == 0 {
				open = append(open, Interval{Kind: k, Size: "small", DiskBytes: disk, From: noon.Add(-time.Duration(r.IntN(1e12)) * time.Microsecond / 10)})
			}
		}
		ongoing := NewOngoing(over, open, rates, noon)
		for _, later := range []time.Duration{0, time.Microsecond, time.Second, time.Duration(r.Int64N(1e9)) * time.Microsecond, 31 * 24 * time.Hour, 80 * 365 * 24 * time.Hour} {
			want := Price(over, open, rates, noon.Add(later))
			if total, idle := ongoing.At(noon.Add(later)); total != want.Total || idle != want.IdleMoney {
				t.Fatalf("seed %d after %s: %d, idle %d; the report says %d, idle %d", seed, later, total, idle, want.Total, want.IdleMoney)
			}
		}
	}
}

// What begins after a clock was set back costs from its beginning on.
func TestOngoingBeforeItsBeginning(t *testing.T) {
	rates := []Since{{Version: 1, Rates: rules.Rates{RunningHour: map[string]rules.Money{"small": 3_600_000_000}}}} // a thousand a second
	ongoing := NewOngoing(nil, []Interval{{Kind: Running, Size: "small", From: noon.Add(time.Minute)}}, rates, noon)
	for after, want := range map[time.Duration]rules.Money{0: 0, time.Minute: 0, time.Minute + time.Second: 1_000_000} {
		if total, idle := ongoing.At(noon.Add(after)); total != want || idle != 0 {
			t.Errorf("after %s it is %d, idle %d; it should be %d", after, total, idle, want)
		}
	}
}

func BenchmarkOngoing(b *testing.B) {
	rates := []Since{{Version: 1, Rates: rules.Rates{RunningHour: map[string]rules.Money{"small": 60_000}, StorageGiBMonth: 90_000}}}
	ongoing := NewOngoing(nil, []Interval{{Kind: Running, Size: "small", From: noon}, {Kind: Stored, DiskBytes: 10 << 30, From: noon}}, rates, noon)
	for b.Loop() {
		ongoing.At(noon.Add(time.Hour))
	}
}
