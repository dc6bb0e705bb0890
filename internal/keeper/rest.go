package keeper

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"yardbench/internal/core/idle"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/plain"
	"yardbench/internal/core/rules"
	"yardbench/internal/presence"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
)

// settled is called when there is nothing more to do for a workspace: what is
// due by the clock is set.
func (k *Keeper) settled(id string) error {
	w, err := k.Store.Read().WorkspaceByID(k.ctx, id)
	if err != nil {
		return err
	}
	if w.Kind == store.ForPrebuild {
		if w.Phase == lifecycle.Removed {
			k.runOver(w)
		}
		return nil
	}
	k.due.Drop("keep " + id)
	switch w.Phase {
	case lifecycle.Ready:
		if w.Plan.Adopted != nil && !k.Hub.Connected(outside.Link(w.ID, w.Body)) {
			k.reach(w) // its container was started anew, say
		}
		k.rest(id)
		return k.fed(k.ctx, id)
	case lifecycle.Stopped:
		if w.Plan.Adopted == nil {
			at, err := k.RemovesAt(k.ctx, k.Store.Read(), w)
			if err != nil {
				return err
			}
			k.due.Set("keep "+id, at, func(ctx context.Context) error { return k.expire(ctx, id) })
		}
	}
	k.due.Drop("rest " + id)
	k.board.Drop(id)
	return nil
}

// terms are the rules of rest for one workspace.
func terms(r rules.Rules, w store.Workspace, h store.Hold) idle.Terms {
	t := idle.Terms{Never: w.Plan.Adopted != nil, Quiet: r.Idle.QuietAfter, Rest: r.Idle.RestAfter, Warn: r.Idle.WarnBefore, Hold: h.Until}
	if w.RestAfter > 0 {
		t.Rest = min(w.RestAfter, r.Idle.RestAfterMost)
	}
	t.Quiet = min(t.Quiet, t.Rest)
	return t
}

// Verdict judges a workspace that is ready, now, by the house rules and by the
// hold and the conditions that it has.
func (k *Keeper) Verdict(r rules.Rules, w store.Workspace, h store.Hold, conditions []lifecycle.Condition) idle.Verdict {
	var signs idle.Signs
	k.board.With(w.ID, func(p *presence.Status) {
		if p.Signs.Up.IsZero() {
			// After a restart nobody knows what was before: it counts from now,
			// or from when it was known to be idle.
			p.Signs.Up = k.Now().UTC()
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
	return idle.Judge(k.Now().UTC(), signs, terms(r, w, h))
}

// rest judges whether a workspace is idle, to be warned, or to be put to rest,
// and does so. Where that fails it is judged again after a while.
func (k *Keeper) rest(id string) {
	if err := k.judge(k.ctx, id); err != nil && k.ctx.Err() == nil && !errors.Is(err, store.ErrClosed) {
		slog.Error("judge whether a workspace is idle", "workspace", id, "error", err)
		k.due.Set("rest "+id, k.Now(), func(ctx context.Context) error { return k.judge(ctx, id) })
	}
}

func (k *Keeper) judge(ctx context.Context, id string) error {
	var v idle.Verdict
	var w store.Workspace
	stop := false
	err := k.Store.Write(store.About(ctx, id), func(tx *store.Tx) (err error) {
		v, stop = idle.Verdict{}, false
		if w, err = tx.WorkspaceByID(ctx, id); err != nil || w.Phase != lifecycle.Ready || w.Wanted != lifecycle.WantReady || w.Kind != store.ForPerson {
			return err
		}
		r, _, err := k.House.Rules(ctx, tx.Q)
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
			err = tx.SetCondition(k.ctx, w, lifecycle.Held, fmt.Sprintf("not put to rest before %s: %s", k.local(tx.Q, h.Until), h.Why))
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
				reason += "; it is put to rest at " + k.local(tx.Q, v.StopAt)
			}
			err = tx.SetConditionSince(k.ctx, w, lifecycle.IdleNow, reason, v.Last)
		}
		if err != nil || !v.Stop || w.NextBody > 0 {
			return err
		}
		stop = true
		why := fmt.Sprintf("put to rest: %s at %s, and nothing since", v.What, k.local(tx.Q, v.Last))
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
		k.Interrupt(id)
		return nil
	}
	if !v.Next.IsZero() {
		k.due.Set("rest "+id, v.Next, func(ctx context.Context) error { return k.judge(ctx, id) })
	}
	if warn {
		text := fmt.Sprintf("Yard Bench: this workspace is put to rest at %s; type something to keep it, or: yardbench hold %s 2h --why …", k.local(k.Store.Read(), v.StopAt), w.Name)
		if c, err := k.Hub.Ask(k.ctx, outside.Link(w.ID, w.Body), steward.Request{Kind: steward.Notice, Text: text}); err == nil {
			c.Stream.Close() // a steward that is away has nobody to tell
		}
	}
	k.Bus.Publish(id)
	return nil
}

// beginStop opens the sheet of a stop that the service itself decided.
func (k *Keeper) beginStop(tx *store.Tx, w *store.Workspace, why string) error {
	if err := tx.Journal(k.ctx, "workspace.rested", w.ID, w.OwnerID, "service", map[string]any{"why": why}); err != nil {
		return err
	}
	if _, err := tx.OpenSheet(k.ctx, w.ID, lifecycle.StopSheet); err != nil {
		return err
	}
	return tx.SetPhase(k.ctx, w, lifecycle.Stopping, "service", why)
}

// Rejudge has every workspace judged anew: the rules changed.
func (k *Keeper) Rejudge(ctx context.Context) error {
	if k.ctx == nil {
		return nil // not before Run, which judges all
	}
	k.due.Set("logs", k.Now(), k.clearLogs)
	all, err := k.Store.Read().PeoplesWorkspaces(ctx, store.Scope{})
	if err != nil {
		return err
	}
	_, version, err := k.House.Rules(ctx, k.Store.Read())
	if err != nil {
		return err
	}
	k.rulesChanged(version)
	for _, w := range all {
		if err := k.settled(w.ID); err != nil {
			return err
		}
	}
	return nil
}

// Judge has one workspace judged anew.
func (k *Keeper) Judge(id string) { k.rest(id) }

// local is a time in a text that everybody reads; see [house.Book.Local].
func (k *Keeper) local(q store.Q, t time.Time) string { return k.House.Local(k.ctx, q, k.Now(), t) }

// RemovesAt is when a stopped workspace is removed, if nothing in it exists
// nowhere else.
func (k *Keeper) RemovesAt(ctx context.Context, q store.Q, w store.Workspace) (time.Time, error) {
	r, _, err := k.House.Rules(ctx, q)
	return w.PhaseAt.Add(r.StoppedMost), err
}

// expire removes a workspace that was stopped too long, unless work in it
// exists nowhere else.
func (k *Keeper) expire(ctx context.Context, id string) error {
	var w store.Workspace
	err := k.Store.Write(store.About(ctx, id), func(tx *store.Tx) (err error) {
		if w, err = tx.WorkspaceByID(k.ctx, id); err != nil || w.Phase != lifecycle.Stopped {
			return err
		}
		at, err := k.RemovesAt(k.ctx, tx.Q, w)
		if err != nil || at.After(tx.Now()) {
			return err // it was used, or the rules changed meanwhile
		}
		if w.SeededVolume > 0 && (w.Work == nil || !w.Work.Clean()) {
			return tx.SetCondition(k.ctx, w, lifecycle.UnpushedWork, "it would have been removed on "+k.local(tx.Q, at)+": "+Unsafe(w))
		}
		if err := tx.Journal(k.ctx, "workspace.expired", w.ID, w.OwnerID, "service", map[string]any{"stopped_at": w.PhaseAt}); err != nil {
			return err
		}
		w.Wanted = lifecycle.WantRemoved
		if _, err := tx.OpenSheet(k.ctx, w.ID, lifecycle.RemoveSheet); err != nil {
			return err
		}
		return tx.SetPhase(k.ctx, &w, lifecycle.Removing, "service", "it was stopped for longer than the house rules keep it")
	})
	if err != nil {
		return fmt.Errorf("remove what was stopped too long: %w", err)
	}
	switch w.Phase {
	case lifecycle.Removing:
		k.Wake(id)
	case lifecycle.Stopped:
		at, err := k.RemovesAt(ctx, k.Store.Read(), w)
		if err != nil {
			return err
		}
		k.due.Set("keep "+id, later(at, k.Now().Add(time.Hour)), func(ctx context.Context) error { return k.expire(ctx, id) })
	}
	return nil
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// Unsafe says what of a stopped workspace exists nowhere else, in few words.
func Unsafe(w store.Workspace) string {
	if w.Work == nil {
		return "its work could not be looked at when it stopped"
	}
	if w.Work.Problem != "" {
		return "its work cannot be looked at: " + w.Work.Problem
	}
	var parts []string
	for _, p := range []struct {
		n    int
		what string
	}{{len(w.Work.Uncommitted), "not committed"}, {len(w.Work.Unpushed), "not pushed"}, {w.Work.Stashes, "stashed"}} {
		if p.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", p.n, p.what))
		}
	}
	return strings.Join(parts, ", ")
}

// Look asks the steward what of a workspace's work exists nowhere else.
func (k *Keeper) Look(ctx context.Context, w store.Workspace) (store.WorkState, error) {
	ctx, cancel := context.WithTimeout(ctx, 45*time.Second)
	defer cancel()
	w.NextPlan = nil // not what a rebuild is making: what is in use
	session, _, err := k.Sessions.Of(ctx, w)
	if err != nil { // a secret that does not open keeps nobody from stopping
		return store.WorkState{Problem: plain.Line(err.Error(), 300)}, nil
	}
	session.Env, session.Files, session.Secrets, session.Probe = nil, nil, nil, ""
	session.Folder = w.Plan.Definition.TreeFolder()
	for _, b := range w.Plan.Beside {
		session.Also = append(session.Also, b.Folder)
	}
	var report steward.WorkReport
	c, err := k.Hub.Ask(ctx, outside.Link(w.ID, w.Body), steward.Request{Kind: steward.Work, Process: session})
	if err == nil {
		defer c.Stream.Close()
		defer context.AfterFunc(ctx, func() { c.Stream.Close() })()
		err = c.Receive(&report)
	}
	if err != nil {
		report = steward.WorkReport{Problem: err.Error()}
	}
	report = presence.Work(report)
	return store.WorkState{Uncommitted: report.Uncommitted, Unpushed: report.Unpushed, Stashes: report.Stashes, Problem: report.Problem}, nil
}

// entered enters a phase, and sets or ends the conditions that go with it.
func (k *Keeper) entered(tx *store.Tx, w *store.Workspace, p lifecycle.Phase, cause string) error {
	from := w.Phase
	if p == lifecycle.Ready {
		w.Work = nil
	}
	if err := tx.SetPhase(k.ctx, w, p, "service", cause); err != nil {
		return err
	}
	switch {
	case p == lifecycle.Stopped:
		if err := tx.ClearConditions(k.ctx, *w, lifecycle.IdleNow, lifecycle.Held, lifecycle.SecretsChanged, lifecycle.StewardAway, lifecycle.OutOfMemory, lifecycle.DiskFull); err != nil {
			return err
		}
		if w.SeededVolume > 0 && from == lifecycle.Stopping && w.Work != nil && !w.Work.Clean() {
			return tx.SetCondition(k.ctx, *w, lifecycle.UnpushedWork, Unsafe(*w))
		}
	case p == lifecycle.Ready:
		return tx.ClearCondition(k.ctx, *w, lifecycle.UnpushedWork)
	}
	return nil
}
