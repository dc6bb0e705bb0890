// Package prebuild says which prepared image serves a launch, when a plan is
// due, and which prepared images are kept.
//
// It is part of the core: plain functions over plain values.
package prebuild

import (
	"cmp"
	"fmt"
	"sort"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// Run is one finished run of a plan that may serve launches.
type Run struct {
	ID          string
	Number      int
	Commit      string
	Fingerprint string // of all that went into it
	MadeAt      time.Time
	// Behind is how many commits the branch's head is ahead of it; -1 when
	// the head does not come from it.
	Behind int
}

// Choose picks the run that serves a launch whose definition has the
// fingerprint: the one least behind, the newest among equals. Where none
// fits it says why.
func Choose(runs []Run, fingerprint string) (best Run, ok bool, why string) {
	if len(runs) == 0 {
		return Run{}, false, "there is no prepared image for this branch yet"
	}
	sort.SliceStable(runs, func(i, j int) bool { return runs[i].MadeAt.After(runs[j].MadeAt) })
	for _, r := range runs {
		switch {
		case r.Fingerprint != fingerprint:
			why = cmp.Or(why, fmt.Sprintf("prepared image %d was made from another definition", r.Number))
		case r.Behind < 0:
			why = cmp.Or(why, fmt.Sprintf("the branch does not come from what prepared image %d was made of", r.Number))
		case !ok || r.Behind < best.Behind:
			best, ok = r, true
		}
	}
	if ok {
		why = ""
	}
	return best, ok, why
}

// Drop gives those of a plan's good runs, in any order, that are not kept:
// all but the newest keep. A run that serves a workspace is kept by its user.
func Drop(runs []Run, keep int) []Run {
	sorted := append([]Run(nil), runs...)
	sort.SliceStable(sorted, func(i, j int) bool { return sorted[i].MadeAt.After(sorted[j].MadeAt) })
	return sorted[min(keep, len(sorted)):]
}

// Timetable is when a plan is due by the clock.
type Timetable struct{ schedule cron.Schedule }

// ParseTimetable reads five fields (minute, hour, day of the month, month,
// day of the week), as crontab(5) has them.
func ParseTimetable(text string) (Timetable, error) {
	var s cron.Schedule
	var err error
	five := len(strings.Fields(text)) == 5 // a zone before them is none of ours, and half a one breaks the reader
	if five {
		s, err = cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow).Parse(text)
	}
	if err != nil || !five {
		return Timetable{}, fmt.Errorf("%q is no timetable: write minute, hour, day of the month, month, day of the week, like 30 5 * * 1-5", text)
	}
	return Timetable{s}, nil
}

// Next is the first time after at that is due, in the zone of at; zero when
// there is none within five years.
func (t Timetable) Next(at time.Time) time.Time { return t.schedule.Next(at) }
