package reconcile

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/rules"
	"yardbench/internal/reach"
	"yardbench/internal/registry"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// imageStep makes the image, or makes sure that the yard has it.
type imageStep struct{ *doing }

// do builds the image, or makes sure the yard has it.
func (d imageStep) do(ctx context.Context) error {
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
func (d imageStep) built(ctx context.Context, plan store.Plan) (img yard.Image, err error) {
	def := plan.Definition
	if def.Build == nil && len(def.Features) == 0 {
		fmt.Fprintf(d.log, "image %s\n", def.Image)
		return d.use(ctx, def.Image)
	}
	tag := d.images.Tag(plan.Fingerprint)
	img, ok, err := d.yard.FindImage(ctx, tag)
	if err != nil {
		return img, err
	}
	if ok {
		if err := d.grantedBases(ctx, plan, def.Image, def.Build); err != nil {
			return img, err
		}
		fmt.Fprintf(d.log, "the yard has the image of this very definition already: %s\n", tag)
		return img, nil
	}
	if len(def.Features) == 0 {
		return d.build(ctx, tag, plan, *def.Build)
	}
	if def.Build == nil {
		fmt.Fprintf(d.log, "image %s\n", def.Image)
		img, err = d.use(ctx, def.Image)
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
func (d imageStep) settleImage(ctx context.Context, img yard.Image) error {
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
		may, more := definition.Permit(def, r.Name, house)
		def, findings = may, append(findings, more...)
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
func (d imageStep) build(ctx context.Context, tag string, plan store.Plan, b definition.Build) (yard.Image, error) {
	dir, err := os.MkdirTemp(d.dataDir, "build-")
	if err != nil {
		return yard.Image{}, err
	}
	defer os.RemoveAll(dir)
	file, err := d.buildFile(ctx, plan, b)
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
	build := yard.Build{Tag: tag, Dockerfile: file, Target: b.Target, Args: b.Args, CacheFrom: b.CacheFrom, Take: d.takes(ctx, house), Secrets: d.opened.Mounts, As: d.opened.Registries}
	if len(build.Secrets) == 0 {
		return d.followed(ctx, filepath.Join(dir, "context"), plan.Commit, build)
	}
	// What mounts a secret may also write it: nobody finds the image by its own name
	// before it was looked through, whatever ends in between.
	build.Tag = tag + "-unread-" + d.w.ID
	img, err := d.followed(ctx, filepath.Join(dir, "context"), plan.Commit, build)
	if err != nil {
		return img, err
	}
	if err := d.clean(ctx, build.Tag, "", build.Secrets); err != nil {
		return img, err
	}
	builder, err := yard.Able[yard.Builder](d.yard, "builds no images")
	if err != nil {
		return img, err
	}
	named, err := builder.Rename(ctx, build.Tag, tag)
	named.Cached = img.Cached
	return named, err
}

// buildFile reads the build file of a plan's repository.
func (d imageStep) buildFile(ctx context.Context, plan store.Plan, b definition.Build) ([]byte, error) {
	if b.Inline != "" {
		return []byte(b.Inline), nil
	}
	file, ok, err := d.mirrors.ReadFile(ctx, d.w.RepositoryID, plan.Commit, b.Dockerfile, definition.MaxBytes)
	if err == nil && !ok {
		err = yard.Refused("%s is not in the repository at %.10s", b.Dockerfile, plan.Commit)
	}
	return file, err
}

// use makes sure that the yard has an image, where the repository may have it.
func (d imageStep) use(ctx context.Context, image string) (yard.Image, error) {
	if err := d.granted(ctx, image); err != nil {
		return yard.Image{}, err
	}
	if _, there, err := d.yard.FindImage(ctx, image); err != nil {
		return yard.Image{}, err
	} else if !there {
		if err := d.noteShut(ctx, image); err != nil { // before it is there
			return yard.Image{}, err
		}
	}
	return d.yard.UseImage(ctx, image, d.opened.Registries, d.log)
}

// noteShut notes an image that is to be fetched with a sign-in and that its registry does not
// show to everybody: it is in the yard from now on, and not everybody's for that.
func (d imageStep) noteShut(ctx context.Context, image string) error {
	if _, signs := d.opened.Registries.At(registry.Host(image)); !signs || registry.Readable(ctx, image) == nil {
		return nil
	}
	return d.store.Write(store.About(ctx, d.w.ID), func(tx *store.Tx) error { return tx.NoteShut(ctx, registry.Name(image)) })
}

// granted refuses an image that was fetched with a sign-in of others, and that its
// registry does not show to everybody.
func (d imageStep) granted(ctx context.Context, image string) error {
	host := registry.Host(image)
	if _, has := d.opened.Registries.At(host); has {
		return nil
	}
	shut, err := d.store.Read().IsShut(ctx, registry.Name(image))
	if err != nil || !shut {
		return err
	}
	if err := registry.Readable(ctx, image); err != nil {
		return yard.Refused("image %s is not this repository's to have: %s; a secret of the repository's or the house's that signs in to %s opens it", image, err, host)
	}
	return nil
}

// grantedBases refuses an image that was made of one which [imageStep.granted] refuses.
func (d imageStep) grantedBases(ctx context.Context, plan store.Plan, image string, b *definition.Build) error {
	if b == nil {
		return d.granted(ctx, image)
	}
	file, err := d.buildFile(ctx, plan, *b)
	if err != nil {
		return err
	}
	house, _, err := d.house.Rules(ctx, d.store.Read())
	if err != nil {
		return err
	}
	for _, base := range definition.Bases(file, b.Args) {
		if err := d.granted(ctx, house.Images.Mirrored(base)); err != nil {
			return err
		}
	}
	return nil
}

// takes holds what a build takes from against the house rules.
func (d imageStep) takes(ctx context.Context, house rules.Rules) func(yard.BuildSource) (string, error) {
	return func(s yard.BuildSource) (string, error) {
		if s.Kind == yard.ImageSource {
			name, err := definition.BuildTakes(s.Name, house.Images)
			if err != nil {
				return "", yard.Refused("the build may not take it: %s", err)
			}
			if err := d.granted(ctx, name); err != nil {
				return "", err
			}
			return name, d.noteShut(ctx, name)
		}
		// The engine itself fetches these, from where it is. What a command of the
		// build reaches is no matter of it.
		if err := reach.NotTheMachine(ctx, hostOf(s.Name)); err != nil {
			return "", yard.Refused("the build may not take %s: %s", s.Name, err)
		}
		return s.Name, nil
	}
}

// hostOf is the host of an address, in the form of an URL or in git's short one,
// USER@HOST:PATH.
func hostOf(address string) string {
	if !strings.Contains(address, "://") {
		_, after, at := strings.Cut(address, "@")
		if !at {
			after = address
		}
		host, _, _ := strings.Cut(after, ":")
		return host
	}
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return u.Hostname()
}

// cacheSpace is what a build shares its cache mounts with: the builds of its
// repository's default branch. Whoever may push elsewhere writes nothing that
// these read; their builds have a space for each commit.
func cacheSpace(r store.Repository, branch, commit string) string {
	if branch == r.DefaultBranch {
		return "yardbench-" + r.ID
	}
	return "yardbench-" + r.ID + "-" + commit
}

// withFeatures puts the features of a plan on an image.
func (d imageStep) withFeatures(ctx context.Context, tag string, plan store.Plan, base yard.Image) (yard.Image, error) {
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
			err = d.features.Unpack(ctx, f, to, d.opened.Registries)
		}
		if err != nil {
			return yard.Image{}, err
		}
		fmt.Fprintf(d.log, "feature %s %s\n", f.ID, f.Version)
	}
	return d.followed(ctx, filepath.Join(dir, "context"), plan.Commit, yard.Build{Tag: tag, Dockerfile: []byte(definition.FeatureFile(plan.Definition, base.Ref, base.User)), Take: only(base.Ref)})
}

// only lets a build of our own take the one image that it is put on.
func only(image string) func(yard.BuildSource) (string, error) {
	return func(s yard.BuildSource) (string, error) {
		if s.Kind != yard.ImageSource || !definition.SameImage(s.Name, image) {
			return "", yard.Refused("features of %s take %s", image, s.Name)
		}
		return s.Name, nil
	}
}

// followed builds from what is in a folder, and writes the news of it to the log and the sheet.
func (d imageStep) followed(ctx context.Context, context, commit string, b yard.Build) (img yard.Image, err error) {
	r, err := d.store.Read().RepositoryByID(ctx, d.w.RepositoryID)
	if err != nil {
		return img, err
	}
	house, _, err := d.house.Rules(ctx, d.store.Read())
	if err != nil {
		return img, err
	}
	most := house.BuildSize()
	b.CacheSpace, b.Closed, b.CoresMilli, b.MemoryBytes = cacheSpace(r, d.w.Branch, commit), house.Builds.Closed, most.CoresMilli, most.MemoryBytes
	builder, err := yard.Able[yard.Builder](d.yard, "builds no images")
	if err == nil {
		b.Context, err = yard.Folder(context)
	}
	if err != nil {
		return img, err
	}
	steps := map[string]store.Step{}
	heading := ""
	return builder.Build(ctx, b, func(p yard.Progress) {
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

// prepared takes the prepared image for a launch, if the yard still has it;
// where it has not, the launch goes on from scratch.
func (d imageStep) prepared(ctx context.Context, plan store.Plan) (served bool, err error) {
	p := *plan.Prepared
	img, ok, err := d.yard.FindImage(ctx, p.Image)
	if err != nil {
		return false, err
	}
	another := ok && p.Digest != "" && img.Digest != p.Digest // somebody gave its name away
	if !ok || another {
		why := fmt.Sprintf("prepared image %d is not in the yard any more", p.Number)
		if another {
			why = fmt.Sprintf("prepared image %d is not the one that was kept: its name means another image now", p.Number)
		}
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

// serviceImages makes sure of the images of the services.
func (d imageStep) serviceImages(ctx context.Context, def definition.Definition) (map[string]string, error) {
	if def.Compose == nil {
		return nil, nil
	}
	out := map[string]string{}
	for _, s := range def.Compose.Services {
		var img yard.Image
		var err error
		if s.Build == nil {
			img, err = d.use(ctx, s.Image)
		} else {
			tag := d.images.Tag(s.Fingerprint)
			ok := false
			if img, ok, err = d.yard.FindImage(ctx, tag); err == nil && !ok {
				img, err = d.build(ctx, tag, *d.w.Target(), *s.Build)
			} else if err == nil {
				err = d.grantedBases(ctx, *d.w.Target(), "", s.Build)
			}
		}
		if err != nil {
			return nil, fmt.Errorf("service %s: %w", s.Name, err)
		}
		fmt.Fprintf(d.log, "service %s: image %s\n", s.Name, img.Ref)
		out[s.Name] = img.Ref
	}
	return out, nil
}
