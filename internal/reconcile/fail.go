package reconcile

import (
	"context"
	"errors"
	"log/slog"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// fail ends the operation under way: a rebuild leaves the old body as it
// was; a launch that has no files yet leaves nothing in the yard.
func (k *Keeper) fail(w store.Workspace, cause error) error {
	defer k.Images.runOver(w)
	if err := k.discard(w); err != nil {
		slog.Warn("what a failure leaves could not be removed yet", "workspace", w.ID, "error", err)
	}
	return k.failed(w, cause)
}

// mostAway is how often a step is begun anew because the yard did not answer it: one that brings
// the yard down each time must not do so for ever.
const mostAway = 20

// waitForYard keeps what was asked for of a workspace until the yard answers again: an outage
// makes nothing fail. It gives the error on where nobody would see that the yard is back.
func (k *Keeper) waitForYard(w store.Workspace, cause error) error {
	defer k.Bus.Publish(w.ID)
	if err := k.Store.Write(store.About(k.ctx, w.ID), func(tx *store.Tx) error {
		return tx.SetCondition(k.ctx, w, lifecycle.WaitsForYard, cause.Error()+"; what was asked for is done when it answers")
	}); err != nil {
		return err
	}
	if _, away := k.Sight.YardAway(); away {
		return nil // as it comes back, all are looked at
	}
	return cause
}

// failed writes down that the operation under way has failed. It touches
// nothing in the yard, which may be another service's to keep.
func (k *Keeper) failed(w store.Workspace, cause error) error {
	text := cause.Error()
	if w.Phase == lifecycle.Removing || w.Phase == lifecycle.Stopping {
		text += "; ask again when the yard answers"
	}
	slog.Warn("workspace failed", "workspace", w.ID, "phase", w.Phase, "cause", text)
	defer k.Bus.Publish(w.ID)
	return k.Store.Write(store.About(k.ctx, w.ID), func(tx *store.Tx) error {
		w, err := tx.WorkspaceByID(k.ctx, w.ID)
		if err != nil {
			return err
		}
		if err := endRebuild(k.ctx, tx, &w); err != nil {
			return err
		}
		if sheet, err := tx.CurrentSheet(k.ctx, w.ID); err == nil {
			if err := tx.CloseSheet(k.ctx, sheet.ID, lifecycle.FailedStep, text); err != nil {
				return err
			}
		}
		if w.Kind == store.ForPrebuild {
			return k.Images.runFailed(tx, &w, text)
		}
		if w.Phase == lifecycle.Ready {
			return tx.Journal(k.ctx, w.ID, w.OwnerID, "service", journal.RebuildFailed{Cause: text})
		}
		return tx.SetPhase(k.ctx, &w, lifecycle.Failed, "service", text)
	})
}

// endRebuild forgets what a rebuild was making.
func endRebuild(ctx context.Context, tx *store.Tx, w *store.Workspace) error {
	if w.NextBody == 0 {
		return nil
	}
	w.NextPlan, w.NextBody, w.NextVolume = nil, 0, 0
	if err := tx.ClearCondition(ctx, *w, lifecycle.Rebuilding); err != nil {
		return err
	}
	return tx.SaveWorkspace(ctx, *w)
}

// discard takes away what a failed operation has made and nobody can miss.
func (k *Keeper) discard(w store.Workspace) error {
	ctx, cancel := context.WithTimeout(k.ctx, yardTimeout)
	defer cancel()
	var errs []error
	do := func(err error) { errs = append(errs, err) }
	switch {
	case w.Plan.Adopted != nil: // nothing of it is ours
	case w.Phase == lifecycle.Removing || w.Phase == lifecycle.Stopping:
	case w.NextBody > 0:
		do(k.Yard.Remove(ctx, yard.Part{Workspace: w.ID, Kind: yard.BodyPart, Number: w.NextBody}))
		do(k.Hub.Close(outside.Link(w.ID, w.NextBody)))
		if w.NextVolume > 0 {
			do(k.Yard.Remove(ctx, yard.Part{Workspace: w.ID, Kind: yard.VolumePart, Number: w.NextVolume}))
		}
		if w.NextPlan != nil && w.NextPlan.Fingerprint != w.Plan.Fingerprint {
			do(k.Images.dropImage(ctx, w, *w.NextPlan))
		}
	case w.SeededVolume == 0:
		do(k.Yard.Remove(ctx, yard.Part{Workspace: w.ID, Kind: yard.BodyPart, Number: w.Body}))
		do(k.Yard.Remove(ctx, yard.Part{Workspace: w.ID, Kind: yard.VolumePart, Number: w.Volume}))
		do(k.Yard.Remove(ctx, yard.Part{Workspace: w.ID, Kind: yard.NamedPart}))
		do(k.Yard.Remove(ctx, yard.Part{Workspace: w.ID, Kind: yard.NetworkPart}))
		do(k.Images.dropImage(ctx, w, *w.Plan))
	}
	return errors.Join(errs...)
}
