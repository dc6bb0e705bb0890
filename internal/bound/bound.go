// Package bound holds what reads hostile text to what it may cost. Tests and
// fuzz targets alone use it.
package bound

import (
	"runtime"
	"testing"
	"time"
)

// most is what any single reading may take: far above what one takes, far below
// what takes a service with it.
const most = 10 * time.Second

// Hold fails the test where do takes more than so many MiB of memory, what was
// given back in between counted too, or more than ten seconds. Nothing else may
// run in the process beside it.
func Hold(t testing.TB, mib uint64, do func()) {
	t.Helper()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	began := time.Now()
	do()
	took := time.Since(began)
	runtime.ReadMemStats(&after)
	if used := (after.TotalAlloc - before.TotalAlloc) >> 20; used > mib || took > most {
		t.Errorf("it took %d MiB and %s; at most %d MiB and %s are allowed", used, took, mib, most)
	}
}
