package reconcile

import (
	"context"
	"errors"
	"fmt"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/feature"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/session"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// steps is what steps are done with.
type steps struct {
	store    *store.Store
	yard     yard.Yard
	hub      Stewards
	mirrors  Trees
	features *feature.Kept
	house    *house.Book
	sessions *session.Sessions
	bus      *live.Bus
	dataDir  string
	now      func() time.Time
	ctx      context.Context // the service's life
	images   *Images
	links    *Links
	logs     *Logs
	rest     *Rest
	luggage  *Luggage
}

// doing is one step while it is done.
type doing struct {
	*steps
	w       store.Workspace
	mv      lifecycle.Move
	body    int             // the number of the one it is done to
	volume  int             // and of its volume
	session steward.Process // what its processes are given, where it has some
	sheet   store.Sheet
	step    store.Step
	log     *stepLog
	opened  session.Opened
	seen    *yard.Observation
	cached  bool
	bytes   int64 // that it brought in
	// set, when not nil, changes the workspace's row with the end of the step.
	// It uses the keeper's own context: the step's has ended by then.
	set func(tx *store.Tx, w *store.Workspace) error
}

// step does what was begun, and gives what is to be written of how it ended.
func (k *Keeper) step(ctx context.Context, b begun, seen *yard.Observation) (finish func(*store.Tx) error, err error) {
	d := &doing{steps: k.steps, w: b.w, mv: b.mv, body: b.body, volume: b.w.Volume, sheet: b.sheet, step: b.step, seen: seen}
	if b.w.NextVolume > 0 {
		d.volume = b.w.NextVolume
	}
	err = d.logged(ctx, b)
	outcome, cause := lifecycle.Done, ""
	switch {
	case errors.Is(err, errSetUp):
		outcome, cause, err = lifecycle.FailedStep, err.Error(), nil
	case ctx.Err() != nil:
		outcome, err = lifecycle.Interrupted, ctx.Err()
	case err != nil:
		outcome, cause = lifecycle.FailedStep, d.masked(err.Error())
		err = maskedError{cause, err}
	}
	again := errors.Is(err, errLookAgain)
	if outcome == lifecycle.Interrupted && b.mv.Action == lifecycle.RunSetUp && !b.mv.Moment.Harmless() {
		d.set = func(tx *store.Tx, w *store.Workspace) error {
			return tx.SetCondition(k.ctx, *w, lifecycle.SetUpFailed, b.step.Title+" was given up when something else was asked for; run it by hand, or rebuild")
		}
	}
	failed := outcome == lifecycle.FailedStep && err != nil && !again
	return func(tx *store.Tx) error {
		if again {
			// The step stays open: it goes on, or begins anew, after the look.
		} else if err := tx.EndStep(k.ctx, d.done(), outcome, d.cached, cause); err != nil {
			return err
		}
		if d.set == nil || failed {
			return nil
		}
		w, err := tx.WorkspaceByID(k.ctx, b.w.ID)
		if err != nil {
			return err
		}
		if err := d.set(tx, &w); err != nil {
			return err
		}
		return tx.SaveWorkspace(k.ctx, w)
	}, err
}

// maskedError is an error whose text holds no secret that was handed out.
type maskedError struct {
	text string
	of   error
}

func (e maskedError) Error() string { return e.text }
func (e maskedError) Unwrap() error { return e.of }

// done is the step with what it brought in.
func (d *doing) done() store.Step {
	s := d.step
	s.Bytes = max(0, d.bytes)
	return s
}

// logged does what was begun, with its log open.
func (d *doing) logged(ctx context.Context, b begun) error {
	var err error
	if b.mv.Action == lifecycle.Clone || b.mv.Action == lifecycle.RunSetUp { // the others hand nothing out
		if d.session, d.opened, err = d.sessions.Of(ctx, b.w); err != nil {
			return err
		}
	}
	if b.mv.Action == lifecycle.MakeImage {
		if d.opened, err = d.sessions.Images().ForBuild(ctx, b.w); err != nil {
			return err
		}
	}
	if len(d.opened.Given) > 0 {
		if err := d.sessions.Used(ctx, d.opened.Given); err != nil {
			return err
		}
	}
	if d.log, err = d.logs.openLog(b.w, b.sheet.Number, b.step.Number, d.opened.Mask); err != nil {
		return fmt.Errorf("write the log: %w", err)
	}
	if d.opened.Mask != nil {
		defer d.sessions.Asking().WriteDown(b.w.ID, d.opened.Mask)()
	}
	err = actions[b.mv.Action](d, ctx)
	switch {
	case err == nil, errors.Is(err, errLookAgain), d.ctx.Err() != nil:
	case ctx.Err() != nil:
		fmt.Fprintln(d.log, "given up: something else was asked for")
	default:
		fmt.Fprintln(d.log, err)
	}
	if cerr := d.log.Close(); cerr != nil && err == nil {
		err = fmt.Errorf("write the log: %w", cerr)
	}
	return err
}

var titles = map[lifecycle.Action]string{
	lifecycle.MakeImage: "Image", lifecycle.MakeNetwork: "Network", lifecycle.MakeVolume: "Volume", lifecycle.MakeBody: "Container",
	lifecycle.StartBody: "Start", lifecycle.AwaitSteward: "Steward connects", lifecycle.Clone: "Clone",
	lifecycle.KeepImage:  "Keep as prepared image",
	lifecycle.SwapBodies: "New container takes over", lifecycle.StopBodies: "Stop", lifecycle.RemoveAll: "Remove",
}

// actions is how each action is done.
var actions = map[lifecycle.Action]func(d *doing, ctx context.Context) error{
	lifecycle.MakeImage:   func(d *doing, ctx context.Context) error { return tryFor(ctx, buildTimeout, imageStep{d}.do) },
	lifecycle.MakeNetwork: (*doing).network, lifecycle.MakeVolume: (*doing).makeVolume, lifecycle.MakeBody: (*doing).container,
	lifecycle.StartBody: (*doing).start, lifecycle.AwaitSteward: (*doing).connect, lifecycle.Clone: (*doing).clone,
	lifecycle.RunSetUp:   func(d *doing, ctx context.Context) error { return setUpStep{d}.do(ctx) },
	lifecycle.SwapBodies: (*doing).swap, lifecycle.KeepImage: (*doing).keep, lifecycle.StopBodies: (*doing).stop, lifecycle.RemoveAll: (*doing).remove,
}

// see is the observation, ready to be written to.
func (d *doing) see() *yard.Observation {
	if d.seen.Volumes == nil {
		d.seen.Volumes = map[int]bool{}
	}
	if d.seen.Bodies == nil {
		d.seen.Bodies = map[int]lifecycle.Body{}
	}
	return d.seen
}

// subStep writes news of a part of a step to the sheet. The sheet is for
// people to look at: a part that cannot be written does not end the step.
func (d *doing) subStep(ctx context.Context, steps map[string]store.Step, p yard.Progress) {
	_ = d.store.Write(store.About(ctx, d.w.ID), func(tx *store.Tx) (err error) {
		s, ok := steps[p.ID]
		if !ok {
			s, err = tx.BeginStep(ctx, store.Step{SheetID: d.sheet.ID, Parent: d.step.Number, Key: d.step.Key + "/" + p.ID, Title: d.masked(p.Title), Body: d.step.Body})
			if err != nil {
				return err
			}
		}
		if p.StartedAt != nil {
			s.StartedAt = p.StartedAt.UTC()
		}
		steps[p.ID] = s
		if p.EndedAt == nil {
			return nil
		}
		outcome := lifecycle.Done
		if p.Err != "" {
			outcome = lifecycle.FailedStep
		}
		s.EndedAt = p.EndedAt
		return tx.EndStep(ctx, s, outcome, p.Cached, d.masked(p.Err))
	})
	d.bus.Publish(d.w.ID)
}

// lost looks again where the steward went away in the middle: whatever ended
// its container decides how it goes on.
func (d *doing) lost(ctx context.Context, err error) error {
	if !errors.Is(err, outside.ErrAway) || ctx.Err() != nil || d.step.Attempt >= maxAttempts {
		return err
	}
	select {
	case <-ctx.Done():
	case <-time.After(200 * time.Millisecond):
	}
	fmt.Fprintln(d.log, err)
	return errLookAgain
}

// retire ends one body and takes it away.
func (d *doing) retire(ctx context.Context, body int) error {
	if err := d.yard.Stop(ctx, d.w.ID, body, stopGrace); err != nil {
		return err
	}
	if err := d.yard.Remove(ctx, yard.Part{Workspace: d.w.ID, Kind: yard.BodyPart, Number: body}); err != nil {
		return err
	}
	return d.hub.Close(outside.Link(d.w.ID, body))
}

// maxAttempts bounds how often a step begins anew because the yard changed
// under it.
const maxAttempts = 3

// masked takes secret values out of a text that will be written down.
func (d *doing) masked(s string) string { return d.opened.Mask.Mask(s) }
