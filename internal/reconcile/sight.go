package reconcile

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/house"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// Sight is whether the yard is seen, and what is seen happening in it.
type Sight struct {
	house  *house.Book
	now    func() time.Time
	store  *store.Store
	yard   yard.Yard
	ctx    context.Context
	keeper waker
	status *Status

	mu       sync.Mutex
	lost     bool      // it does not answer now
	from, to time.Time // when it did not answer last
}

// YardAway tells since when the yard does not answer; ok is false when it does.
func (k *Sight) YardAway() (since time.Time, ok bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.from, k.lost
}

// watch follows the yard's events, as long as the keeper runs. Events that are
// lost are one thing: everything is looked at. A yard that then does not answer
// is away, and is asked every second until it is back.
func (k *Sight) watch() {
	for wait := time.Second; k.ctx.Err() == nil; {
		began, connected := time.Now(), false
		err := k.yard.Watch(k.ctx, func() { connected = true; k.back() }, k.told)
		switch {
		case k.ctx.Err() != nil:
			return
		case err != nil && !connected:
			k.away(err)
			wait = time.Second
		case err != nil:
			slog.Warn("the yard's events are lost", "error", err)
		}
		if time.Since(began) > time.Minute {
			wait = time.Second
		}
		select {
		case <-k.ctx.Done():
		case <-time.After(wait):
		}
		if _, away := k.YardAway(); away {
			continue
		}
		wait = min(2*wait, 30*time.Second)
		k.wakeAll() // something may have happened unseen
	}
}

func (k *Sight) wakeAll() {
	if all, err := k.store.Read().Workspaces(k.ctx); err == nil {
		for _, w := range all {
			k.keeper.Wake(w.ID)
		}
	}
}

// justBefore is how long before a yard went away what ended by itself is held
// to have ended with it: an engine that is told to end ends its containers first.
const justBefore = 20 * time.Second

// away notes that the yard does not answer.
func (k *Sight) away(cause error) {
	now := k.now()
	k.mu.Lock()
	news := !k.lost
	if news {
		k.lost, k.from = true, now
	}
	k.mu.Unlock()
	if !news {
		return
	}
	slog.Warn("the yard is away", "error", cause)
	err := k.store.Write(store.About(k.ctx, "yard away"), func(tx *store.Tx) error {
		if err := tx.Journal(k.ctx, "", "", "service", journal.YardAway{Cause: cause.Error()}); err != nil {
			return err
		}
		all, err := tx.StoppedSince(k.ctx, now.Add(-justBefore))
		if err != nil {
			return err
		}
		for _, w := range all {
			if w.Phase == lifecycle.Stopped && strings.HasPrefix(w.Cause, endedByItself) && now.Sub(w.PhaseAt) < justBefore {
				w.Cause = "its container ended as the yard went away" + strings.TrimPrefix(w.Cause, endedByItself)
				if err := tx.SaveWorkspace(k.ctx, w); err != nil {
					return err
				}
			}
		}
		return nil
	})
	if err != nil && k.ctx.Err() == nil {
		slog.Error("note that the yard is away", "error", err)
	}
}

// back notes that the yard answers again, and looks at everything.
func (k *Sight) back() {
	k.mu.Lock()
	news := k.lost
	k.lost = false
	if news {
		k.to = k.now()
	}
	from, to := k.from, k.to
	k.mu.Unlock()
	if !news {
		return
	}
	slog.Info("the yard is back", "after", to.Sub(from).Round(time.Millisecond).String())
	err := k.store.Write(store.About(k.ctx, "yard back"), func(tx *store.Tx) error {
		return tx.Journal(k.ctx, "", "", "service", journal.YardBack{AwayS: int64(to.Sub(from).Seconds())})
	})
	if err != nil && k.ctx.Err() == nil {
		slog.Error("note that the yard is back", "error", err)
	}
	k.wakeAll()
}

const endedByItself = "its container ended by itself"

// endedHow says why a container that nobody stopped has ended, as far as can be seen.
func (k *Sight) endedHow(q store.Q, state lifecycle.Body, how string) string {
	if state == lifecycle.Absent {
		return "its container is gone: somebody removed it"
	}
	cause := endedByItself
	k.mu.Lock()
	lost, from, to := k.lost, k.from, k.to
	k.mu.Unlock()
	if !from.IsZero() && (lost || k.now().Sub(to) < time.Minute) {
		cause = fmt.Sprintf("its container ended while the yard was away, from %s on", k.house.Local(k.ctx, q, k.now(), from))
	}
	if how != "" {
		cause += ": " + how
	}
	return cause
}

// told is called with what the yard tells of a workspace.
func (k *Sight) told(id string, what yard.News) {
	if note := map[yard.News]func(string) error{yard.OutOfMemory: k.status.starved, yard.Sprawls: k.status.sprawls}[what]; note != nil {
		k.keeper.Go(func(ctx context.Context) {
			if err := note(id); err != nil && ctx.Err() == nil {
				slog.Error("note what the yard tells of a workspace", "workspace", id, "news", string(what), "error", err)
			}
		})
	}
	k.keeper.Wake(id)
}
