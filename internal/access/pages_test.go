package access

import (
	"strings"
	"testing"
	"time"

	"yardbench/wire"
)

// Whoever waits for a workspace sees its launch sheet, without the parts of its steps.
func TestStepsOfAPageThatWaits(t *testing.T) {
	began := time.Now().Add(-5 * time.Second)
	ended := began.Add(1500 * time.Millisecond)
	got := steps(wire.Sheet{Steps: []wire.Step{{Number: 1, Title: "Image", StartedAt: began, EndedAt: &ended, Outcome: "done"}, {Number: 2, Parent: 1, Title: "a part", StartedAt: began}, {Number: 3, Title: "Start", StartedAt: ended}}})
	lines := strings.Split(strings.TrimSpace(got), "\n")
	if len(lines) != 2 || lines[0] != "Image: done, 1.5 s" || !strings.HasPrefix(lines[1], "Start: now, 3.") {
		t.Errorf("it says %q", got)
	}
	if got := steps(wire.Sheet{}); got != "" {
		t.Errorf("of nothing it says %q", got)
	}
}
