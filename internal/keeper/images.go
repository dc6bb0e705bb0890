package keeper

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"

	"yardbench/internal/core/definition"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// Tag is the name of an image we build, by what goes into it.
func (k *Images) Tag(fingerprint string) string {
	return "yardbench/" + k.installation + ":" + fingerprint[:24]
}

// image builds the image, or makes sure the yard has it.
func (d *doing) image(ctx context.Context) error {
	plan := *d.w.Target()
	if plan.Prepared != nil {
		served, err := d.prepared(ctx, plan)
		if served || err != nil {
			return err
		}
	}
	if plan.Scratch != "" {
		fmt.Fprintf(d.log, "from scratch: %s\n", plan.Scratch)
	}
	img, err := d.built(ctx, plan)
	if err != nil {
		return err
	}
	if d.cached = img.Cached; !d.cached {
		d.bytes = img.Bytes
	}
	return d.settleImage(ctx, img)
}

// built makes the image of a plan: the definition's own, and what its features
// put on top.
func (d *doing) built(ctx context.Context, plan store.Plan) (img yard.Image, err error) {
	def := plan.Definition
	if def.Build == nil && len(def.Features) == 0 {
		fmt.Fprintf(d.log, "image %s\n", def.Image)
		return d.yard.UseImage(ctx, def.Image, d.log)
	}
	tag := d.images.Tag(plan.Fingerprint)
	img, ok, err := d.yard.FindImage(ctx, tag)
	if err != nil {
		return img, err
	}
	if ok {
		fmt.Fprintf(d.log, "the yard has the image of this very definition already: %s\n", tag)
		return img, nil
	}
	if len(def.Features) == 0 {
		return d.build(ctx, tag, plan, *def.Build)
	}
	if def.Build == nil {
		fmt.Fprintf(d.log, "image %s\n", def.Image)
		img, err = d.yard.UseImage(ctx, def.Image, d.log)
	} else {
		img, err = d.build(ctx, tag+"-base", plan, *def.Build)
	}
	if err != nil {
		return img, err
	}
	return d.withFeatures(ctx, tag, plan, img)
}

// settleImage takes an image for the plan: what its label says is merged
// beneath the definition, held against the house rules again, and the images
// of the services are made sure of.
func (d *doing) settleImage(ctx context.Context, img yard.Image) error {
	def, findings := definition.UnderImage(d.w.Target().Definition, img.Ref, img.Metadata)
	r, err := d.store.Read().RepositoryByID(ctx, d.w.RepositoryID)
	if err != nil {
		return err
	}
	house, _, err := d.house.Rules(ctx, d.store.Read())
	if err != nil {
		return err
	}
	if img.Metadata != "" {
		fmt.Fprintln(d.log, "the image's label is merged beneath the definition")
		findings = append(findings, definition.Permit(def, r.Name, house)...)
	}
	if f, bad := definition.Fatal(findings); bad {
		return yard.Refused("%s", f)
	}
	images, err := d.serviceImages(ctx, def)
	if err != nil {
		return err
	}
	def.User = cmp.Or(def.Person(), img.User)
	d.set = func(_ *store.Tx, w *store.Workspace) error {
		w.ChangeTarget(func(p *store.Plan) {
			if p.Image = img.Ref; p.Prepared != nil && p.Prepared.Image != img.Ref {
				p.Prepared = nil
			}
			p.Definition, p.ServiceImages = def, images
		})
		return nil
	}
	return nil
}

// build makes an image of a plan's repository.
func (d *doing) build(ctx context.Context, tag string, plan store.Plan, b definition.Build) (yard.Image, error) {
	dir, err := os.MkdirTemp(d.dataDir, "build-")
	if err != nil {
		return yard.Image{}, err
	}
	defer os.RemoveAll(dir)
	file, ok := []byte(b.Inline), true
	if b.Inline == "" {
		file, ok, err = d.mirrors.ReadFile(ctx, d.w.RepositoryID, plan.Commit, b.Dockerfile, definition.MaxBytes)
	}
	if err == nil && !ok {
		err = yard.Refused("%s is not in the repository at %.10s", b.Dockerfile, plan.Commit)
	}
	if err == nil {
		err = d.mirrors.Pack(ctx, d.w.RepositoryID, plan.Commit, b.Context, filepath.Join(dir, "context"))
	}
	if err != nil {
		return yard.Image{}, err
	}
	house, _, err := d.house.Rules(ctx, d.store.Read())
	if err != nil {
		return yard.Image{}, err
	}
	fmt.Fprintf(d.log, "building %s from %s\n", tag, cmp.Or(b.Dockerfile, "the compose file"))
	return d.followed(ctx, yard.Build{Tag: tag, ContextDir: filepath.Join(dir, "context"), Dockerfile: definition.Mirrored(file, b.Args, house.Images), Target: b.Target, Args: b.Args, CacheFrom: b.CacheFrom})
}

// withFeatures puts the features of a plan on an image.
func (d *doing) withFeatures(ctx context.Context, tag string, plan store.Plan, base yard.Image) (yard.Image, error) {
	dir, err := os.MkdirTemp(d.dataDir, "build-")
	if err != nil {
		return yard.Image{}, err
	}
	defer os.RemoveAll(dir)
	for i, f := range plan.Definition.Features {
		to := filepath.Join(dir, "context", strconv.Itoa(i))
		if f.Folder != "" {
			err = d.mirrors.Pack(ctx, d.w.RepositoryID, plan.Commit, f.Folder, to)
		} else {
			err = d.features.Unpack(ctx, f, to)
		}
		if err != nil {
			return yard.Image{}, err
		}
		fmt.Fprintf(d.log, "feature %s %s\n", f.ID, f.Version)
	}
	return d.followed(ctx, yard.Build{Tag: tag, ContextDir: filepath.Join(dir, "context"), Dockerfile: []byte(definition.FeatureFile(plan.Definition, base.Ref, base.User))})
}

// followed builds, and writes the news of it to the log and the sheet.
func (d *doing) followed(ctx context.Context, b yard.Build) (yard.Image, error) {
	steps := map[string]store.Step{}
	heading := ""
	return d.yard.Build(ctx, b, func(p yard.Progress) {
		if len(p.Log) > 0 {
			if heading != p.ID {
				heading = p.ID
				fmt.Fprintf(d.log, "-- %s\n", p.Title)
			}
			_, _ = d.log.Write(p.Log) // a full disk shows at the log's Close
			return
		}
		d.subStep(ctx, steps, p)
	})
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
			if err := k.yard.DropTag(ctx, t); err != nil {
				return err
			}
		}
	}
	return nil
}
