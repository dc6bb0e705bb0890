// Package bound holds what reads hostile text to what it may cost. Tests and
// fuzz targets alone use it.
package bound

import (
	"runtime"
	"syscall"
	"testing"
	"time"
)

// most is what any single reading may take: far above what one takes, far below
// what takes a service with it.
const most = 10 * time.Second

// Hold fails the test where do takes more than so many MiB of memory, what was
// given back in between counted too, or more than ten seconds, of which those are
// left out in which the machine had others to do. Nothing else may run in the process
// beside it.
func Hold(t testing.TB, mib uint64, do func()) {
	t.Helper()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	began, used := time.Now(), worked(t)
	do()
	took := min(time.Since(began), worked(t)-used)
	runtime.ReadMemStats(&after)
	if bytes := (after.TotalAlloc - before.TotalAlloc) >> 20; bytes > mib || took > most {
		t.Errorf("it took %d MiB and %s; at most %d MiB and %s are allowed", bytes, took, mib, most)
	}
}

// worked is the processor time that the process has had.
func worked(t testing.TB) time.Duration {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		t.Fatal(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}
