package cost

import (
	"slices"
	"time"
)

// The marks of a day strip.
const (
	StripActive = 'a' // worked in for a part of the half hour at least
	StripIdle   = 'i' // up, and nobody worked in it
	StripRest   = '.'
)

const (
	stripMark  = 30 * time.Minute
	stripMarks = 48
)

// Strip is the 24 hours before now in 48 marks, the oldest half hour first.
func Strip(metered []Interval, now time.Time) string {
	begin := now.Add(-stripMarks * stripMark)
	marks := slices.Repeat([]byte{StripRest}, stripMarks)
	for _, i := range metered {
		mark := byte(StripActive)
		switch i.Kind {
		case Idle:
			mark = StripIdle
		case Running:
		default:
			continue
		}
		to := i.To
		if to.IsZero() || to.After(now) {
			to = now
		}
		from := max(0, i.From.Sub(begin))
		for n := int(from / stripMark); n < stripMarks && time.Duration(n)*stripMark < to.Sub(begin); n++ {
			if marks[n] != StripActive {
				marks[n] = mark
			}
		}
	}
	return string(marks)
}
