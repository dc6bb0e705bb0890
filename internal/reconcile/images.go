package reconcile

import (
	"context"
	"errors"
	"log/slog"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/prebuild"
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

// endRun records how a run ended.
func (k *Images) endRun(tx *store.Tx, run store.PrebuildRun, kept store.Kept, o lifecycle.Outcome, cause string) error {
	if err := tx.EndRun(k.ctx, run.ID, kept, o, cause); err != nil {
		return err
	}
	return tx.Journal(k.ctx, run.ID, "", "service", journal.PrebuildEnded{Plan: run.PlanID, Number: run.Number, Outcome: o, Cause: cause})
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
	if err := k.endRun(tx, run, store.Kept{}, lifecycle.FailedStep, cause); err != nil {
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
	return k.dropTag(ctx, k.PreparedTag(run))
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
	if err := k.dropTag(ctx, k.PreparedTag(run)); err != nil {
		return err
	}
	return k.store.Write(store.About(ctx, run), func(tx *store.Tx) error { return tx.DropRun(ctx, run) })
}

// Tag is the name of an image we build, by what goes into it.
func (k *Images) Tag(fingerprint string) string {
	return "yardbench/" + k.installation + ":" + fingerprint[:24]
}

// dropImage takes away the name of an image we built, if nobody else uses it.
func (k *Images) dropImage(ctx context.Context, w store.Workspace, p store.Plan) error {
	if p.Prepared != nil {
		return k.releasePrepared(ctx, w.RepositoryID, p.Prepared.Run, w.ID)
	}
	tags := map[string]string{}
	if p.Definition.Build != nil || len(p.Definition.Features) > 0 { // also one that was built and then refused
		tags[p.Fingerprint] = k.Tag(p.Fingerprint)
	}
	if c := p.Definition.Compose; c != nil {
		for _, s := range c.Services {
			if s.Build != nil {
				tags[s.Fingerprint] = k.Tag(s.Fingerprint)
			}
		}
	}
	for fingerprint, tag := range tags {
		used, err := k.store.Read().ImageInUse(ctx, fingerprint, w.ID)
		if err != nil {
			return err
		}
		if used {
			continue
		}
		for _, t := range []string{tag, tag + "-base"} {
			if err := k.dropTag(ctx, t); err != nil {
				return err
			}
		}
	}
	return nil
}

// dropTag takes the name of an image away that a yard made.
func (k *Images) dropTag(ctx context.Context, tag string) error {
	builder, err := yard.Able[yard.Builder](k.yard, "makes no images, and drops none")
	if err != nil {
		return err
	}
	return builder.DropTag(ctx, tag)
}
