package reconcile

import (
	"context"
	"errors"
	"fmt"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// keep makes the prepared image of a prebuild's body: the tree first, then
// the image with it. After that nothing of the body is wanted.
func (d *doing) keep(ctx context.Context) error {
	run, err := d.store.Read().RunOf(ctx, d.w.ID)
	if err != nil {
		return fmt.Errorf("find the run: %w", err)
	}
	c, err := d.hub.Ask(ctx, outside.Link(d.w.ID, d.body), steward.Request{Kind: steward.Keep, Mount: mountAbove(d.w.Plan.Definition), Process: steward.Process{Folder: d.w.Plan.Definition.TreeFolder()}})
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
	committer, err := yard.Able[yard.Committer](d.yard, "keeps no containers as images")
	if err != nil {
		return err
	}
	if err := tryWhole(ctx, buildTimeout, func(ctx context.Context) error { return committer.Keep(ctx, d.w.ID, d.body, tag) }); err != nil {
		return err
	}
	fmt.Fprintf(d.log, "kept as %s\n", tag)
	img, ok, err := d.yard.FindImage(ctx, tag)
	if err == nil && !ok {
		err = yard.Refused("the image %s was kept and is not there", tag)
	}
	if err != nil {
		return err
	}
	d.bytes = img.Bytes
	d.set = func(tx *store.Tx, w *store.Workspace) error {
		w.Wanted = lifecycle.WantRemoved
		return d.images.endRun(tx, run, store.Kept{Image: tag, Digest: img.Digest, User: w.Plan.Definition.User}, lifecycle.Done, "")
	}
	return nil
}
