package keeper

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/feature"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/session"
	"yardbench/internal/steward"
	"yardbench/internal/steward/carried"
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
}

// doing is one step while it is done.
type doing struct {
	*steps
	w      store.Workspace
	sheet  store.Sheet
	step   store.Step
	log    *stepLog
	mask   map[string]string
	seen   *yard.Observation
	cached bool
	bytes  int64 // that it brought in
	// set, when not nil, changes the workspace's row with the end of the step.
	// It uses the keeper's own context: the step's has ended by then.
	set func(tx *store.Tx, w *store.Workspace) error
}

// step does what was begun, and gives what is to be written of how it ended.
func (k *Keeper) step(ctx context.Context, b begun, seen *yard.Observation) (finish func(*store.Tx) error, err error) {
	d := &doing{steps: k.steps, w: b.w, sheet: b.sheet, step: b.step, seen: seen}
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
	if outcome == lifecycle.Interrupted && b.mv.Action == lifecycle.RunSetUp {
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
	var session steward.Process
	var err error
	if b.mv.Action == lifecycle.Clone || b.mv.Action == lifecycle.RunSetUp { // the others hand nothing out
		if session, d.mask, err = d.sessions.Of(ctx, b.w); err != nil {
			return err
		}
	}
	if d.log, err = d.logs.openLog(b.w, b.sheet.Number, b.step.Number, d.mask); err != nil {
		return fmt.Errorf("write the log: %w", err)
	}
	err = d.act(ctx, b.mv, b.body, session)
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

func (d *doing) act(ctx context.Context, mv lifecycle.Move, body int, session steward.Process) error {
	volume := d.w.Volume
	if d.w.NextVolume > 0 {
		volume = d.w.NextVolume
	}
	once := func(do func(context.Context) error) error { return tryWhole(ctx, yardTimeout, do) }
	switch mv.Action {
	case lifecycle.MakeImage:
		return tryFor(ctx, buildTimeout, d.image)
	case lifecycle.MakeNetwork:
		return d.network(ctx)
	case lifecycle.MakeVolume:
		err := once(func(ctx context.Context) error { return d.yard.MakeVolume(ctx, d.w.ID, volume, d.w.DiskBytes) })
		if err == nil {
			d.see().Volumes[volume] = true
		}
		return err
	case lifecycle.MakeBody:
		err := once(func(ctx context.Context) error { return d.body(ctx, body, volume) })
		if err == nil {
			d.see().Bodies[body] = lifecycle.Created
		}
		return err
	case lifecycle.StartBody:
		err := once(func(ctx context.Context) error {
			if _, err := d.links.openLink(d.w, body); err != nil {
				return err
			}
			return d.yard.StartBody(ctx, d.w.ID, body)
		})
		if err == nil {
			d.see().Bodies[body] = lifecycle.Running
		}
		return err
	case lifecycle.AwaitSteward:
		if d.w.Plan.Adopted != nil {
			d.links.reach(d.w)
		}
		ctx, cancel := context.WithTimeout(ctx, stewardTimeout)
		defer cancel()
		err := d.hub.Await(ctx, outside.Link(d.w.ID, body))
		if errors.Is(err, outside.ErrAway) && ctx.Err() == context.DeadlineExceeded {
			o, oerr := d.yard.Observe(context.WithoutCancel(ctx), d.w.ID)
			if oerr == nil && o.Bodies[body] != lifecycle.Running {
				return fmt.Errorf("the container ended before its steward connected: %s", o.Ends[body])
			}
			if d.w.Plan.Adopted != nil {
				return fmt.Errorf("%w, for %s", err, stewardTimeout)
			}
			return fmt.Errorf("the steward did not connect within %s; see the container's own log in the engine", stewardTimeout)
		}
		return err
	case lifecycle.Clone:
		return d.clone(ctx, body, volume, session)
	case lifecycle.SwapBodies:
		return d.swap(ctx)
	case lifecycle.RunSetUp:
		return d.setUp(ctx, mv.Moment, body, session)
	case lifecycle.KeepImage:
		return d.keep(ctx, body)
	case lifecycle.StopBodies:
		return d.stop(ctx)
	case lifecycle.RemoveAll:
		return d.remove(ctx)
	}
	return fmt.Errorf("unknown action %q", mv.Action)
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

// network makes the workspace's network; where others have its piece of the
// range, it takes the next one.
func (d *doing) network(ctx context.Context) error {
	subnet := d.w.Subnet
	for {
		err := tryWhole(ctx, yardTimeout, func(ctx context.Context) error { return d.yard.MakeNetwork(ctx, d.w.ID, subnet) })
		if errors.Is(err, yard.ErrSubnetTaken) {
			fmt.Fprintln(d.log, err)
			if err := d.store.Write(store.About(ctx, d.w.ID), func(tx *store.Tx) (err error) { subnet, err = tx.MoveSubnet(ctx, d.w.ID); return err }); err != nil {
				return err
			}
			continue // ends with the range, whose end is another error
		}
		if err == nil {
			d.see().Network = true
		}
		return err
	}
}

func (d *doing) body(ctx context.Context, body, volume int) error {
	plan := *d.w.Target()
	img, ok, err := d.yard.FindImage(ctx, plan.Image)
	if err != nil {
		return err
	}
	if !ok && d.step.Attempt >= maxAttempts {
		return yard.Refused("image %s vanishes again and again", plan.Image)
	}
	if !ok { // somebody removed it: it is made again
		d.set = func(_ *store.Tx, w *store.Workspace) error {
			w.ChangeTarget(func(p *store.Plan) { p.Image = "" })
			return nil
		}
		return errLookAgain
	}
	bin, err := carried.Unpack(filepath.Join(d.dataDir, "steward"), img.Arch)
	if err != nil {
		return yard.Refused("%w", err)
	}
	link, err := d.links.openLink(d.w, body)
	if err != nil {
		return err
	}
	def := plan.Definition
	spec := yard.BodySpec{Workspace: d.w.ID, Number: body, Volume: volume, Folder: def.Mountpoint(), Tree: def.TreeFolder(), Hostname: d.w.Name, Image: plan.Image, Env: def.Env,
		CoresMilli: d.w.CoresMilli, MemoryBytes: d.w.MemoryBytes, StewardDir: bin, LinkDir: link, DiskBytes: d.w.DiskBytes, Mounts: def.Mounts, Extra: def.Extra}
	if def.RunsOwnCommand() || len(def.Entrypoints) > 0 {
		spec.Own = &yard.OwnCommand{Entrypoints: def.Entrypoints, Image: def.RunsOwnCommand(), User: def.ContainerUser}
	}
	if c := def.Compose; c != nil {
		spec.Aliases = c.Aliases
		if spec.Own != nil {
			spec.Own.Entrypoint, spec.Own.Command = c.Entrypoint, c.Command
		}
	}
	return d.yard.MakeBody(ctx, spec)
}

// mountAbove is where the volume is mounted, where that is above the tree.
func mountAbove(def definition.Definition) string {
	if def.Mountpoint() != def.TreeFolder() {
		return def.Mountpoint()
	}
	return ""
}

func (d *doing) clone(ctx context.Context, body, volume int, session steward.Process) error {
	ctx, cancel := context.WithTimeout(ctx, cloneTimeout)
	defer cancel()
	r, err := d.store.Read().RepositoryByID(ctx, d.w.RepositoryID)
	if err != nil {
		return err
	}
	// A clone needs git's way out and nothing of the person's secrets.
	session.Env, session.Probe = map[string]string{"GIT_TERMINAL_PROMPT": "0"}, ""
	plan := d.w.Target()
	session.Folder = plan.Definition.TreeFolder()
	ask := steward.Request{Kind: steward.CloneTo, Process: session, Mount: mountAbove(plan.Definition), URL: r.URL, Branch: d.w.Branch, Prepared: plan.Prepared != nil}
	for _, b := range plan.Beside {
		ask.Beside = append(ask.Beside, steward.Clone{URL: b.URL, Branch: b.Branch, Folder: b.Folder})
	}
	c, err := d.hub.Ask(ctx, outside.Link(d.w.ID, body), ask)
	if err != nil {
		return d.lost(ctx, err)
	}
	defer c.Stream.Close()
	x, err := outside.Follow(ctx, c, d.log)
	if err != nil {
		return d.lost(ctx, err)
	}
	if x.Problem != "" {
		if last := d.log.lastLine(); last != "" {
			x.Problem += ": " + last
		}
		return fmt.Errorf("clone %s: %s", r.URL, x.Problem)
	}
	d.bytes = x.Bytes
	d.set = func(_ *store.Tx, w *store.Workspace) error { w.SeededVolume = volume; return nil }
	return nil
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

// swap puts the new body in the old one's place.
func (d *doing) swap(ctx context.Context) error {
	w := d.w
	old, oldVolume, oldPlan := w.Body, w.Volume, w.Plan
	if err := tryFor(ctx, yardTimeout, func(ctx context.Context) error { return d.retire(ctx, old) }); err != nil {
		return err
	}
	if w.NextVolume > 0 {
		if err := tryFor(ctx, yardTimeout, func(ctx context.Context) error { return d.yard.RemoveVolume(ctx, w.ID, oldVolume) }); err != nil {
			return err
		}
		delete(d.see().Volumes, oldVolume)
	}
	delete(d.see().Bodies, old)
	d.set = func(tx *store.Tx, w *store.Workspace) error {
		w.Plan, w.NextPlan = w.NextPlan, nil
		w.Body, w.NextBody = w.NextBody, 0
		if w.NextVolume > 0 {
			w.Volume, w.NextVolume = w.NextVolume, 0
		}
		for _, c := range []lifecycle.ConditionKind{lifecycle.SetUpFailed, lifecycle.RebuildDue} {
			if err := tx.ClearCondition(d.ctx, *w, c); err != nil {
				return err
			}
		}
		return tx.ClearCondition(d.ctx, *w, lifecycle.Rebuilding)
	}
	if oldPlan.Fingerprint == w.NextPlan.Fingerprint {
		return nil
	}
	return d.images.dropImage(ctx, w, *oldPlan)
}

// retire ends one body and takes it away.
func (d *doing) retire(ctx context.Context, body int) error {
	if err := d.yard.StopBody(ctx, d.w.ID, body, stopGrace); err != nil {
		return err
	}
	if err := d.yard.RemoveBody(ctx, d.w.ID, body); err != nil {
		return err
	}
	return d.hub.Close(outside.Link(d.w.ID, body))
}

// maxAttempts bounds how often a step begins anew because the yard changed
// under it.
const maxAttempts = 3

// stop ends what runs; a rebuild under way is given up with it.
func (d *doing) stop(ctx context.Context) error {
	w := d.w
	var work *store.WorkState
	if w.SeededVolume > 0 && w.Kind == store.ForPerson {
		// Nothing changes while it is stopped: what is seen now holds until the
		// next start, and decides whether it may be removed.
		state, err := d.rest.Look(ctx, w)
		if err != nil {
			return err
		}
		state.At = d.now().UTC()
		if work = &state; w.Work != nil && state.Problem != "" {
			work = w.Work // this stop goes on after a cut: it was looked at before
		}
	}
	err := tryFor(ctx, yardTimeout, func(ctx context.Context) error {
		if w.NextBody > 0 {
			if err := d.retire(ctx, w.NextBody); err != nil {
				return err
			}
			if w.NextVolume > 0 {
				if err := d.yard.RemoveVolume(ctx, w.ID, w.NextVolume); err != nil {
					return err
				}
			}
		}
		return d.yard.StopBody(ctx, w.ID, w.Body, stopGrace)
	})
	if err != nil {
		return err
	}
	d.set = func(tx *store.Tx, w *store.Workspace) error {
		w.Work = work
		return endRebuild(d.ctx, tx, w)
	}
	*d.seen, err = d.yard.Observe(ctx, w.ID)
	return err
}

// remove takes everything of the workspace out of the yard, its files last.
func (d *doing) remove(ctx context.Context) error {
	w := d.w
	if w.Plan.Adopted != nil {
		return d.letGo(ctx)
	}
	return tryFor(ctx, yardTimeout, func(ctx context.Context) error {
		o, err := d.yard.Observe(ctx, w.ID)
		if err != nil {
			return err
		}
		for n := range o.Bodies {
			if err := d.retire(ctx, n); err != nil {
				return err
			}
		}
		for _, n := range []int{w.Body, w.NextBody} {
			if err := d.hub.Close(outside.Link(w.ID, n)); err != nil {
				return err
			}
		}
		if err := d.yard.RemoveNetwork(ctx, w.ID); err != nil {
			return err
		}
		for n := range o.Volumes {
			if err := d.yard.RemoveVolume(ctx, w.ID, n); err != nil {
				return err
			}
		}
		if err := d.yard.RemoveNamedVolumes(ctx, w.ID); err != nil {
			return err
		}
		for _, p := range []*store.Plan{w.Plan, w.NextPlan} {
			if p != nil {
				if err := d.images.dropImage(ctx, w, *p); err != nil {
					return err
				}
			}
		}
		*d.seen, err = d.yard.Observe(ctx, w.ID)
		return err
	})
}
