package reconcile

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"yardbench/internal/core/idle"
	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/rules"
	"yardbench/internal/due"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/presence"
	"yardbench/internal/session"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
)

// Rest judges whether workspaces are idle, and puts them to rest or removes
// them when their time has come.
type Rest struct {
	bus      *live.Bus
	house    *house.Book
	hub      Stewards
	now      func() time.Time
	sessions *session.Sessions
	store    *store.Store
	board    *presence.Board
	ctx      context.Context
	due      *due.Queue
	keeper   waker
}

// terms are the rules of rest for one workspace.
func terms(r rules.Rules, w store.Workspace, h store.Hold) idle.Terms {
	t := idle.Terms{Never: w.Plan.Adopted != nil, Quiet: r.Idle.QuietAfter, Rest: r.Idle.RestAfter, Warn: r.Idle.WarnBefore, Hold: h.Until, NotBefore: r.RestsNotBefore(w.RestAfter)}
	if w.RestAfter > 0 {
		t.Rest = min(w.RestAfter, r.Idle.RestAfterMost)
	}
	t.Quiet = min(t.Quiet, t.Rest)
	return t
}

// Verdict judges a workspace that is ready, now, by the house rules and by the
// hold and the conditions that it has.
func (k *Rest) Verdict(r rules.Rules, w store.Workspace, h store.Hold, conditions []lifecycle.Condition) idle.Verdict {
	var signs idle.Signs
	k.board.With(w.ID, func(p *presence.Status) {
		if p.Signs.Up.IsZero() {
			// After a restart nobody knows what was before: it counts from now,
			// or from when it was known to be idle.
			p.Signs.Up = k.now().UTC()
			for _, c := range conditions {
				if c.Kind == lifecycle.IdleNow {
					p.Signs.Up, p.Idle = c.Since, true
				}
			}
		}
		if w.PhaseAt.After(p.Signs.Up) {
			p.Signs.Up = w.PhaseAt
		}
		signs = p.Signs
	})
	return idle.Judge(k.now().UTC(), signs, terms(r, w, h))
}

// rest judges whether a workspace is idle, to be warned, or to be put to rest,
// and does so. Where that fails it is judged again after a while.
func (k *Rest) rest(id string) {
	if err := k.judge(k.ctx, id); err != nil && k.ctx.Err() == nil && !errors.Is(err, store.ErrClosed) {
		slog.Error("judge whether a workspace is idle", "workspace", id, "error", err)
		k.due.Set("rest "+id, k.now(), func(ctx context.Context) error { return k.judge(ctx, id) })
	}
}

func (k *Rest) judge(ctx context.Context, id string) error {
	var v idle.Verdict
	var w store.Workspace
	stop := false
	err := k.store.Write(store.About(ctx, id), func(tx *store.Tx) (err error) {
		v, stop = idle.Verdict{}, false
		if w, err = tx.WorkspaceByID(ctx, id); err != nil || w.Phase != lifecycle.Ready || w.Wanted != lifecycle.WantReady || w.Kind != store.ForPerson {
			return err
		}
		r, _, err := k.house.Rules(ctx, tx.Q)
		if err != nil {
			return err
		}
		h, err := tx.HoldOf(ctx, w.ID)
		if err != nil {
			return err
		}
		conditions, err := tx.Conditions(ctx, w.ID)
		if err != nil {
			return err
		}
		v = k.Verdict(r, w, h, conditions)
		if v.Held {
			err = tx.SetCondition(k.ctx, w, lifecycle.Held, fmt.Sprintf("not put to rest before %s: %s", k.house.Local(k.ctx, tx.Q, k.now(), h.Until), h.Why))
		} else if err = tx.ClearCondition(k.ctx, w, lifecycle.Held); err == nil && !h.Until.IsZero() {
			err = tx.DropHold(k.ctx, w, "service")
		}
		if err != nil {
			return err
		}
		if !v.Idle {
			err = tx.ClearCondition(k.ctx, w, lifecycle.IdleNow)
		} else {
			reason := v.What + ", and nothing since"
			if !v.StopAt.IsZero() {
				reason += "; it is put to rest at " + k.house.Local(k.ctx, tx.Q, k.now(), v.StopAt)
			}
			err = tx.SetConditionSince(k.ctx, w, lifecycle.IdleNow, reason, v.Last)
		}
		if err != nil || !v.Stop || w.NextBody > 0 {
			return err
		}
		stop = true
		why := fmt.Sprintf("put to rest: %s at %s, and nothing since", v.What, k.house.Local(k.ctx, tx.Q, k.now(), v.Last))
		w.Wanted = lifecycle.WantStopped
		return k.beginStop(tx, &w, why)
	})
	if err != nil || w.ID == "" || v.Last.IsZero() {
		return err
	}
	warn := false
	k.board.With(id, func(p *presence.Status) {
		p.Idle = v.Idle
		warn = v.Warn && !p.Warned.Equal(v.StopAt)
		if warn {
			p.Warned = v.StopAt
		}
	})
	if stop {
		k.keeper.Interrupt(id)
		return nil
	}
	if !v.Next.IsZero() {
		k.due.Set("rest "+id, v.Next, func(ctx context.Context) error { return k.judge(ctx, id) })
	}
	if warn {
		text := fmt.Sprintf("Yard Bench: this workspace is put to rest at %s; type something to keep it, or: yardbench hold %s 2h --why …", k.house.Local(k.ctx, k.store.Read(), k.now(), v.StopAt), w.Name)
		if c, err := k.hub.Ask(k.ctx, outside.Link(w.ID, w.Body), steward.Request{Kind: steward.Notice, Text: text}); err == nil {
			c.Stream.Close() // a steward that is away has nobody to tell
		}
	}
	k.bus.Publish(id)
	return nil
}

// beginStop opens the sheet of a stop that the service itself decided.
func (k *Rest) beginStop(tx *store.Tx, w *store.Workspace, why string) error {
	if err := tx.Journal(k.ctx, w.ID, w.OwnerID, "service", journal.WorkspaceRested{Why: why}); err != nil {
		return err
	}
	if _, err := tx.OpenSheet(k.ctx, w.ID, lifecycle.StopSheet); err != nil {
		return err
	}
	return tx.SetPhase(k.ctx, w, lifecycle.Stopping, "service", why)
}

// Judge has one workspace judged anew.
func (k *Rest) Judge(id string) { k.rest(id) }
