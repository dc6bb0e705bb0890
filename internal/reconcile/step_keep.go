package reconcile

import (
	"context"
	"errors"
	"fmt"
	"io"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/plain"
	"yardbench/internal/core/secret"
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
	r, err := d.store.Read().RepositoryByID(ctx, d.w.RepositoryID)
	if err != nil {
		return err
	}
	shared, err := d.sessions.Images().SharedBy(ctx, r)
	if err != nil {
		return err
	}
	if err := d.clean(ctx, tag, d.w.Plan.Image, shared); err != nil {
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

// clean looks for values of secrets in the files of an image, those of the image
// below it left out, and gives up its name where one is there, or it could not be
// looked through: an image is everybody's who works in the repository, and stays.
func (d *doing) clean(ctx context.Context, tag, below string, values map[string]string) error {
	finder := secret.NewFinder(values)
	if finder.Empty() {
		return nil
	}
	looker, err := yard.Able[yard.Looker](d.yard, "does not let us look into images")
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, buildTimeout)
	defer cancel()
	where, name := "", ""
	look := finder.Look()
	err = looker.LookInto(ctx, tag, below, func(path string, r io.Reader) error {
		found, err := look(r)
		if found != "" {
			where, name = path, found
			return errFoundIn
		}
		return err
	})
	if err == nil {
		return nil
	}
	if builder, able := yard.Able[yard.Builder](d.yard, "builds no images"); able == nil {
		if err := builder.DropTag(context.WithoutCancel(ctx), tag); err != nil {
			return err
		}
	}
	if !errors.Is(err, errFoundIn) {
		return err
	}
	return yard.Refused("the image is not kept: the value of secret %s is in %s; have what needs it read it when it runs, or mount it in the build as a secret, and write it nowhere", name, plain.Line(where, 300))
}

var errFoundIn = errors.New("a value was found")
