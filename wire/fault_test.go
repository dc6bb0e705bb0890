package wire

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"yardbench/internal/fault"
)

// Every class of faults is a status of its own, also where it was wrapped, and
// what nobody meant for whoever asked is no problem.
func TestEveryFaultHasAStatus(t *testing.T) {
	seen := map[int]fault.Class{}
	for c := fault.Invalid; c <= fault.NoRoom; c++ {
		f := &fault.Fault{Class: c, Kind: "adrift", Detail: "it is adrift", Next: "row", Parts: []fault.Part{{Field: "oar", Detail: "lost"}}, After: 90 * time.Second}
		p := ProblemOf(fmt.Errorf("asked: %w", f))
		if p == nil || p.Status < 400 || p.Title == "" || p.Type != "urn:yardbench:problem:adrift" || p.Detail != f.Detail || p.Next != "row" || len(p.Errors) != 1 || p.Errors[0] != (FieldProblem{"oar", "lost"}) || p.GetHeaders().Get("Retry-After") != "90" {
			t.Errorf("a fault of class %d is told as %+v", c, p)
			continue
		}
		if other, there := seen[p.Status]; there {
			t.Errorf("classes %d and %d have one status, %d", other, c, p.Status)
		}
		seen[p.Status] = c
	}
	if len(seen) != len(statuses) {
		t.Errorf("%d statuses are for classes there are not", len(statuses)-len(seen))
	}
	for status, want := range map[int]string{429: "5", 503: "5", 409: "", 500: ""} {
		if got := (&Problem{Status: status}).GetHeaders().Get("Retry-After"); got != want {
			t.Errorf("after a %d one asks again after %q", status, got)
		}
	}
	own := &Problem{Status: 418}
	if ProblemOf(fmt.Errorf("again: %w", own)) != own || ProblemOf(errors.New("a wave")) != nil || ProblemOf(nil) != nil {
		t.Error("a problem is told anew, or what is none is told")
	}
}
