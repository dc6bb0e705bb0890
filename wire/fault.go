package wire

import (
	"errors"
	"net/http"
	"time"

	"yardbench/internal/fault"
)

// statuses are what the classes of faults are over HTTP.
var statuses = map[fault.Class]int{
	fault.Invalid:  http.StatusUnprocessableEntity,
	fault.Stranger: http.StatusUnauthorized,
	fault.Denied:   http.StatusForbidden,
	fault.Missing:  http.StatusNotFound,
	fault.Conflict: http.StatusConflict,
	fault.Stale:    http.StatusPreconditionFailed,
	fault.TooMany:  http.StatusTooManyRequests,
	fault.Away:     http.StatusServiceUnavailable,
	fault.NoRoom:   http.StatusInsufficientStorage,
}

// ProblemOf is the problem that an error is; nil for one that nobody meant for
// whoever asked.
func ProblemOf(err error) *Problem {
	var p *Problem
	if errors.As(err, &p) {
		return p
	}
	var f *fault.Fault
	if !errors.As(err, &f) {
		return nil
	}
	status := statuses[f.Class]
	p = &Problem{Type: ProblemPrefix + f.Kind, Title: http.StatusText(status), Status: status, Detail: f.Detail, Next: f.Next, RetryAfterS: int(f.After / time.Second), Now: f.Now, Output: f.Output}
	for _, part := range f.Parts {
		p.Errors = append(p.Errors, FieldProblem{Field: part.Field, Detail: part.Detail})
	}
	for _, a := range f.Actions {
		p.Actions = append(p.Actions, Action(a))
	}
	for _, l := range f.Limits {
		p.Limits = append(p.Limits, LimitLine{Kind: l.Kind, Whose: l.Whose, Used: l.Used, Asked: l.Asked, Allowed: l.Allowed, Over: true, Text: l.Text, Line: l.Line})
	}
	p.RulesVersion, p.Workspace = f.Rules, f.Workspace
	return p
}
