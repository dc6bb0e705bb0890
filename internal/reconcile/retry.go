package reconcile

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"yardbench/internal/yard"
)

// Waits between tries of a step that the yard could not answer.
var retryWaits = []time.Duration{300 * time.Millisecond, time.Second, 3 * time.Second}

// try calls the yard, again after a wait where it did not answer.
func try(ctx context.Context, do func(context.Context) error) error {
	return tryFor(ctx, yardTimeout, do)
}

func tryFor(ctx context.Context, limit time.Duration, do func(context.Context) error) error {
	return tries(ctx, ctx, limit, do)
}

// tryWhole is tryFor for what makes something: a call that has begun is not cut
// off when something else is asked for. The yard would make it all the same,
// later, when nobody looks for it any more.
func tryWhole(ctx context.Context, limit time.Duration, do func(context.Context) error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return tries(ctx, context.WithoutCancel(ctx), limit, do)
}

func tries(ctx, calls context.Context, limit time.Duration, do func(context.Context) error) error {
	for i := 0; ; i++ {
		c, cancel := context.WithTimeout(calls, limit)
		err := do(c)
		late := c.Err() != nil && calls.Err() == nil
		cancel()
		if late && err != nil {
			return fmt.Errorf("gave up after %s: %w", limit, err)
		}
		if err == nil || ctx.Err() != nil || i >= len(retryWaits) || !errors.Is(err, yard.ErrAway) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(retryWaits[i]):
		}
	}
}

// again has a workspace looked at later where it could not be kept now: the
// disk is full, say, or the yard cannot be looked at. Nothing else would.
func (k *Keeper) again(id string, err error) {
	if err == nil || k.ctx.Err() != nil {
		k.mu.Lock()
		delete(k.failures, id)
		k.mu.Unlock()
		return
	}
	k.mu.Lock()
	n := k.failures[id]
	k.failures[id] = n + 1
	k.mu.Unlock()
	wait := min(time.Second<<min(n, 10), time.Minute)
	slog.Error("a workspace cannot be kept now; it is looked at again", "workspace", id, "in", wait, "error", err)
	k.Go(func(ctx context.Context) {
		select {
		case <-ctx.Done():
		case <-time.After(wait): // whatever the clock is set to
			k.Wake(id)
		}
	})
}

// mostTurns bounds how many look at the records at the same time: after a start
// all have something to do, and whoever asks for something must not stand
// behind them.
const mostTurns = 24

// turns are handed out to those who look at the records in the background. The
// nil ones are no bound.
type turns chan struct{}

// turn is one of them; begin and end may be called again and again.
type turn struct {
	of   turns
	held bool
}

func (t turns) next() *turn {
	n := &turn{of: t}
	n.begin()
	return n
}

func (t *turn) begin() {
	if !t.held && t.of != nil {
		t.of <- struct{}{} // bounded: every turn ends
	}
	t.held = true
}

func (t *turn) end() {
	if t.held && t.of != nil {
		<-t.of
	}
	t.held = false
}
