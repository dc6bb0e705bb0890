package test

import (
	"os"
	"testing"
	"time"
)

// A command that prints without end ends with whoever asked for it, at once.
func TestALoudRunIsLeft(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "deck-log", "--name", "quay"), 0, "is ready")
	for range 5 {
		run := w.command("ingrid", "", "run", "quay", "--", "yes", "gull")
		if err := run.Start(); err != nil { // what it prints goes nowhere
			t.Fatal(err)
		}
		time.Sleep(300 * time.Millisecond)
		if err := run.Process.Signal(os.Interrupt); err != nil {
			t.Fatal(err)
		}
		_ = run.Wait() // its exit code says that it was left
		w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "i=0; while grep -qx yes /proc/[0-9]*/comm 2>/dev/null; do i=$((i+1)); [ $i -lt 300 ] || exit 1; sleep 0.1; done"), 0)
	}
}
