package keeper

import (
	"context"
	"errors"
	"fmt"
	"log/slog"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/prebuild"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// Images are the images in the yard that are ours to keep and to drop.
type Images struct {
	installation string
	store        *store.Store
	yard         yard.Yard
	ctx          context.Context
	// Prebuilt, if set, is called when a run of a prebuild plan has ended.
	Prebuilt func(plan string)
}

// PreparedTag is the name of a run's image.
func (k *Images) PreparedTag(run string) string {
	return "yardbench/" + k.installation + ":prepared-" + run
}

// prepared takes the prepared image for a launch, if the yard still has it;
// where it has not, the launch goes on from scratch.
func (d *doing) prepared(ctx context.Context, plan store.Plan) (served bool, err error) {
	p := *plan.Prepared
	img, ok, err := d.yard.FindImage(ctx, p.Image)
	if err != nil {
		return false, err
	}
	if !ok {
		why := fmt.Sprintf("prepared image %d is not in the yard any more", p.Number)
		fmt.Fprintln(d.log, why)
		err := d.store.Write(store.About(ctx, d.w.ID), func(tx *store.Tx) error {
			w, err := tx.WorkspaceByID(ctx, d.w.ID)
			if err != nil {
				return err
			}
			w.ChangeTarget(func(p *store.Plan) { p.Prepared, p.Scratch = nil, why })
			return tx.SaveWorkspace(ctx, w)
		})
		return false, err
	}
	fmt.Fprintf(d.log, "prepared image %d of %s, %d commits behind\n", p.Number, p.MadeAt.Format("2006-01-02 15:04 MST"), p.Behind)
	d.cached = true
	img.User = p.User
	return true, d.settleImage(ctx, img)
}

// keep makes the prepared image of a prebuild's body: the tree first, then
// the image with it. After that nothing of the body is wanted.
func (d *doing) keep(ctx context.Context, body int) error {
	run, err := d.store.Read().RunOf(ctx, d.w.ID)
	if err != nil {
		return fmt.Errorf("find the run: %w", err)
	}
	c, err := d.hub.Ask(ctx, outside.Link(d.w.ID, body), steward.Request{Kind: steward.Keep, Mount: mountAbove(d.w.Plan.Definition), Process: steward.Process{Folder: d.w.Plan.Definition.TreeFolder()}})
	if err != nil {
		return d.lost(ctx, err)
	}
	defer c.Stream.Close()
	x, err := outside.Follow(ctx, c, d.log)
	if err != nil {
		return d.lost(ctx, err)
	}
	if x.Problem != "" {
		return errors.New(x.Problem)
	}
	tag := d.images.PreparedTag(run.ID)
	if err := tryWhole(ctx, buildTimeout, func(ctx context.Context) error { return d.yard.KeepBody(ctx, d.w.ID, body, tag) }); err != nil {
		return err
	}
	fmt.Fprintf(d.log, "kept as %s\n", tag)
	if img, ok, err := d.yard.FindImage(ctx, tag); err == nil && ok { // else only its size is not known
		d.bytes = img.Bytes
	}
	d.set = func(tx *store.Tx, w *store.Workspace) error {
		w.Wanted = lifecycle.WantRemoved
		return d.images.endRun(tx, run, tag, w.Plan.Definition.User, lifecycle.Done, "")
	}
	return nil
}

// endRun records how a run ended.
func (k *Images) endRun(tx *store.Tx, run store.PrebuildRun, tag, user string, o lifecycle.Outcome, cause string) error {
	if err := tx.EndRun(k.ctx, run.ID, tag, user, o, cause); err != nil {
		return err
	}
	return tx.Journal(k.ctx, "prebuild.ended", run.ID, "", "service", map[string]any{"plan": run.PlanID, "number": run.Number, "outcome": o, "cause": cause})
}

// runFailed ends a run that failed and has what it made removed. It takes
// nothing away from the runs before it.
func (k *Images) runFailed(tx *store.Tx, w *store.Workspace, cause string) error {
	run, err := tx.RunOf(k.ctx, w.ID)
	if err != nil {
		return err
	}
	if w.Phase == lifecycle.Removing {
		return tx.SetPhase(k.ctx, w, lifecycle.Failed, "service", cause) // the yard does not let it go: an operator looks
	}
	if err := k.endRun(tx, run, "", "", lifecycle.FailedStep, cause); err != nil {
		return err
	}
	w.Wanted = lifecycle.WantRemoved
	return tx.SetPhase(k.ctx, w, lifecycle.Removing, "service", cause)
}

// runOver has prepared images that are not kept dropped, and tells that a run
// has ended.
func (k *Images) runOver(w store.Workspace) {
	if w.Kind != store.ForPrebuild {
		return
	}
	if err := k.sweepPrepared(k.ctx, w.RepositoryID, w.ID); err != nil && k.ctx.Err() == nil {
		slog.Warn("prepared images could not be dropped yet", "repository", w.RepositoryID, "error", err)
	}
	k.runEnded(w)
}

// runEnded tells that a run has ended.
func (k *Images) runEnded(w store.Workspace) {
	if w.Kind != store.ForPrebuild {
		return
	}
	if run, err := k.store.Read().RunOf(k.ctx, w.ID); err == nil && k.Prebuilt != nil {
		k.Prebuilt(run.PlanID)
	}
}

// releasePrepared is called when a workspace is made from a run's image no
// more: what is not kept goes, also where the plan itself has gone meanwhile.
func (k *Images) releasePrepared(ctx context.Context, repository, run, workspace string) error {
	_, err := k.store.Read().RunByID(ctx, run)
	if err == nil {
		return k.sweepPrepared(ctx, repository, workspace)
	}
	if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	used, err := k.store.Read().PreparedInUse(ctx, run, workspace)
	if err != nil || used {
		return err
	}
	return k.yard.DropTag(ctx, k.PreparedTag(run))
}

// sweepPrepared drops the images of a repository's plans that are not kept and
// that no workspace but except is made from.
func (k *Images) sweepPrepared(ctx context.Context, repository, except string) error {
	plans, err := k.store.Read().PrebuildPlans(ctx, repository)
	if err != nil {
		return err
	}
	for _, p := range plans {
		good, err := k.store.Read().GoodRuns(ctx, repository, p.Branch)
		if err != nil {
			return err
		}
		runs := make([]prebuild.Run, len(good))
		for i, r := range good {
			runs[i] = prebuild.Run{ID: r.ID, MadeAt: r.StartedAt}
		}
		for _, r := range prebuild.Drop(runs, p.Keep) {
			if err := k.DropPrepared(ctx, r.ID, except); err != nil {
				return err
			}
		}
	}
	return nil
}

// DropPrepared drops a run's image, unless a workspace other than except is
// made from it.
func (k *Images) DropPrepared(ctx context.Context, run, except string) error {
	used, err := k.store.Read().PreparedInUse(ctx, run, except)
	if err != nil || used {
		return err
	}
	if err := k.yard.DropTag(ctx, k.PreparedTag(run)); err != nil {
		return err
	}
	return k.store.Write(store.About(ctx, run), func(tx *store.Tx) error { return tx.DropRun(ctx, run) })
}
