package sim

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"runtime"
	"strconv"
	"strings"
	"time"

	"github.com/moby/buildkit/frontend/dockerfile/parser"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/registry"
	"yardbench/internal/yard"
)

// images are what images a yard has, and makes.
type images struct{ *ground }

// FindImage implements [yard.Yard].
func (y *images) FindImage(ctx context.Context, ref string) (yard.Image, bool, error) {
	y.place.mu.Lock()
	defer y.place.mu.Unlock()
	img, ok := y.place.images[ref]
	img.Cached = true
	return img, ok, ctx.Err()
}

// UseImage implements [yard.Yard].
func (y *images) UseImage(ctx context.Context, ref string, _ registry.SignIns, log io.Writer) (yard.Image, error) {
	if img, ok, err := y.FindImage(ctx, ref); ok || err != nil {
		return img, err
	}
	fmt.Fprintf(log, "the simulated yard does not have %s\n", ref)
	if err := y.pass(ctx, Fetch); err != nil {
		return yard.Image{}, err
	}
	return yard.Image{}, yard.Refused("nobody has image %s: this yard is simulated, and fetches none", ref)
}

// DropTag implements [yard.Builder].
func (y *images) DropTag(ctx context.Context, tag string) error {
	return y.do(ctx, Stop, "", func() error {
		y.place.mu.Lock()
		delete(y.place.images, tag)
		y.place.mu.Unlock()
		return y.keepImages()
	})
}

// Rename implements [yard.Builder].
func (y *images) Rename(ctx context.Context, tag, name string) (yard.Image, error) {
	img, ok, err := y.FindImage(ctx, tag)
	if err == nil && !ok {
		err = yard.Refused("there is no image %s", tag)
	}
	if err != nil {
		return img, err
	}
	img = y.addImage(name, img)
	return img, y.DropTag(ctx, tag)
}

func (y *images) addImage(ref string, img yard.Image) yard.Image {
	img.Ref = ref
	if img.Arch == "" {
		img.Arch = runtime.GOARCH
	}
	y.place.mu.Lock()
	defer y.place.mu.Unlock()
	y.place.images[ref] = img
	return img
}

// Build implements [yard.Builder]: the build file is really read, and its
// instructions are reported one after the other; of its commands echo, cat,
// exit and sleep do what they do, and all others do well and print nothing.
func (y *images) Build(ctx context.Context, b yard.Build, report func(yard.Progress)) (yard.Image, error) {
	parsed, err := parser.Parse(bytes.NewReader(b.Dockerfile))
	if err != nil {
		return yard.Image{}, yard.Refused("build the image: %s", strings.SplitN(err.Error(), "\n", 2)[0])
	}
	env, files := map[string]string{}, map[string]string{}
	_ = b.Context.Walk(ctx, "", func(path string, _ fs.DirEntry, err error) error { // what cannot be read is not there
		if err == nil && !strings.Contains(path, "/") {
			if f, err := b.Context.Open(path); err == nil {
				if content, err := io.ReadAll(io.LimitReader(f, 1<<20)); err == nil && len(content) < 1<<20 {
					files[path] = string(content)
				}
				f.Close()
			}
		}
		return nil
	})
	sum := sha256.New()
	img, cached := yard.Image{Arch: runtime.GOARCH}, true
	total := len(parsed.AST.Children)
	for i, n := range parsed.AST.Children {
		var words []string
		for w := n.Next; w != nil; w = w.Next {
			words = append(words, w.Value)
		}
		fmt.Fprintf(sum, "%s\n", n.Original)
		p := yard.Progress{ID: strconv.Itoa(i), Title: fmt.Sprintf("[%d/%d] %s", i+1, total, n.Original)}
		began := time.Now()
		p.StartedAt = &began
		digest := "sha256:" + hex.EncodeToString(sum.Sum(nil))
		_, had, err := y.FindImage(ctx, "layer "+digest)
		if err != nil {
			return img, err
		}
		switch strings.ToUpper(n.Value) {
		case "FROM":
			outside := words[0] != "scratch" && !strings.Contains(string(b.Dockerfile), " AS "+words[0])
			if b.Take != nil && outside {
				if words[0], err = b.Take(yard.BuildSource{Kind: yard.ImageSource, Name: words[0]}); err != nil {
					return img, err
				}
			}
			from, ok, err := y.FindImage(ctx, words[0])
			if err != nil {
				return img, err
			}
			if !ok && outside {
				return img, yard.Refused("build step FROM %s: nobody has it: this yard is simulated, and fetches none", words[0])
			}
			img.User, img.Metadata, had = from.User, from.Metadata, true
		case "ARG":
			k, v, _ := strings.Cut(words[0], "=")
			if given, ok := b.Args[k]; ok {
				v = given
			}
			env[k] = v
		case "USER":
			img.User = words[0]
		case "COPY", "ADD", "ENV", "LABEL", "WORKDIR", "EXPOSE", "CMD", "ENTRYPOINT", "VOLUME", "SHELL", "STOPSIGNAL", "HEALTHCHECK", "ONBUILD", "MAINTAINER":
		case "RUN":
			if !had {
				cached = false
				report(p)
				out, code, ends := run([]string{"/bin/sh", "-c", strings.Join(words, " ")}, env, files)
				if out != "" {
					report(yard.Progress{ID: p.ID, Title: p.Title, Log: []byte(out)})
				}
				if !ends {
					<-ctx.Done()
					return img, ctx.Err()
				}
				if err := y.pass(ctx, Build); err != nil {
					return img, err
				}
				if code != 0 {
					end := time.Now()
					p.EndedAt, p.Err = &end, fmt.Sprintf("exit code: %d", code)
					report(p)
					return img, yard.Refused("build step %s: did not complete successfully: exit code: %d", n.Original, code)
				}
			}
		default:
			return img, yard.Refused("build the image: unknown instruction: %s", n.Value)
		}
		y.addImage("layer "+digest, yard.Image{Digest: digest})
		end := began.Add(max(time.Since(began), time.Microsecond))
		p.EndedAt, p.Cached = &end, had
		report(p)
	}
	img.Digest = "sha256:" + hex.EncodeToString(sum.Sum(nil))
	img = y.addImage(b.Tag, img)
	img.Cached = cached
	return img, y.keepImages()
}

// Keep implements [yard.Committer].
func (y *images) Keep(ctx context.Context, id string, n int, tag string) error {
	return y.do(ctx, Keep, id, func() error {
		w := y.has[id]
		if w == nil || w.Bodies[n] == nil || w.Bodies[n].State == lifecycle.Absent {
			return yard.Refused("keep the container as an image: there is none")
		}
		y.place.mu.Lock()
		img := y.place.images[w.Bodies[n].Spec.Image]
		y.place.mu.Unlock()
		img.Digest = fmt.Sprintf("sha256:%x", sha256.Sum256([]byte(tag)))
		y.addImage(tag, img)
		return y.keepImages()
	})
}

// Try implements [yard.Trier]: every program is there.
func (y *images) Try(ctx context.Context, image string, argv []string, max int64) ([]byte, error) {
	if _, ok, err := y.FindImage(ctx, image); err != nil || !ok {
		return nil, yard.Refused("try the image: nobody has %s", image)
	}
	out, _, _ := run(argv, nil, nil)
	return []byte(out[:min(int64(len(out)), max)]), ctx.Err()
}

// LookInto implements [yard.Looker]: simulated images hold no files.
func (y *images) LookInto(ctx context.Context, _, _ string, _ func(string, io.Reader) error) error {
	return ctx.Err()
}
