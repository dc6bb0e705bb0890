package service

import (
	"context"
	"fmt"
	"log/slog"
	"runtime"
	"time"

	"yardbench/internal/core/definition"
)

// looks has definitions looked at, as many at once as there are processors:
// what a repository wrote is read here, in the service itself. It is no process
// of its own, since that would cost every launch more than the look does; what
// a definition may unfold to and how much work each reader does with it is
// bounded by the core instead, and a test there holds cost to size. What
// remains is a reader that fails outright, and a clock.
type looks struct{ slots chan struct{} }

// lookTime bounds one look, its wait for the others counted.
const lookTime = 30 * time.Second

func newLooks() looks { return looks{make(chan struct{}, max(2, runtime.NumCPU()))} }

// check is [definition.Check], bounded in time.
func (l looks) check(ctx context.Context, src definition.Source) (definition.Definition, []definition.Finding, error) {
	type looked struct {
		def      definition.Definition
		findings []definition.Finding
		problem  any
	}
	late := func() error {
		return invalidAs("definition", fmt.Sprintf("the definition takes more than %s to look at", lookTime), "make it smaller")
	}
	ctx, cancel := context.WithTimeoutCause(ctx, lookTime, late())
	defer cancel()
	select {
	case l.slots <- struct{}{}:
	case <-ctx.Done():
		return definition.Definition{}, nil, context.Cause(ctx)
	}
	done := make(chan looked, 1)
	go func() {
		var out looked
		defer func() {
			out.problem = recover()
			<-l.slots
			done <- out
		}()
		out.def, out.findings = definition.Check(src)
	}()
	select {
	case out := <-done:
		if out.problem != nil {
			slog.Error("a definition brought its reader down", "repository", src.Repository, "error", out.problem)
			return definition.Definition{}, nil, invalidAs("definition", "the definition cannot be read", "look for what is unusual in it, and write it another way")
		}
		return out.def, out.findings, nil
	case <-ctx.Done():
		return definition.Definition{}, nil, context.Cause(ctx)
	}
}
