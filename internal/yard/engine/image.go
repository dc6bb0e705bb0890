package engine

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/containerd/errdefs"
	buildkit "github.com/moby/buildkit/client"
	"github.com/moby/buildkit/frontend/dockerfile/builder"
	gateway "github.com/moby/buildkit/frontend/gateway/client"
	"github.com/moby/buildkit/session"
	"github.com/moby/buildkit/session/auth"
	"github.com/moby/buildkit/session/secrets/secretsprovider"
	"github.com/moby/buildkit/util/staticfs"
	registrytypes "github.com/moby/moby/api/types/registry"
	"github.com/moby/moby/client"
	"github.com/tonistiigi/fsutil"
	"github.com/tonistiigi/fsutil/types"
	"google.golang.org/grpc"

	"yardbench/internal/core/definition"
	"yardbench/internal/registry"
	"yardbench/internal/yard"
)

// images are what images the engine has, and makes.
type images struct{ *conn }

// FindImage implements [yard.Yard].
func (e *images) FindImage(ctx context.Context, ref string) (yard.Image, bool, error) {
	in, err := e.cli.ImageInspect(ctx, ref)
	if errdefs.IsNotFound(err) {
		return yard.Image{}, false, nil
	}
	if err != nil {
		return yard.Image{}, false, e.wrap("look at image "+ref, err)
	}
	img := yard.Image{Ref: ref, Digest: in.ID, Arch: in.Architecture, Bytes: in.Size, Cached: true}
	if in.Config != nil {
		img.User, img.Metadata = in.Config.User, in.Config.Labels["devcontainer.metadata"]
	}
	return img, true, nil
}

// UseImage implements [yard.Yard].
func (e *images) UseImage(ctx context.Context, ref string, as registry.SignIns, log io.Writer) (yard.Image, error) {
	if img, ok, err := e.FindImage(ctx, ref); ok || err != nil {
		return img, err
	}
	fmt.Fprintf(log, "the yard does not have %s; asking its registry\n", ref)
	var how client.ImagePullOptions
	if in, ok := as.At(registry.Host(ref)); ok {
		sealed, err := json.Marshal(registrytypes.AuthConfig{Username: in.Username, Password: in.Password})
		if err != nil {
			return yard.Image{}, err
		}
		how.RegistryAuth = base64.URLEncoding.EncodeToString(sealed)
	}
	pull, err := e.cli.ImagePull(ctx, ref, how)
	layers := map[string]int64{}
	if err == nil {
		for m, merr := range pull.JSONMessages(ctx) {
			if err = merr; err == nil && m.Error != nil {
				err = m.Error
			}
			if err != nil {
				break
			}
			if m.Status == "Downloading" && m.Progress != nil {
				layers[m.ID] = m.Progress.Total
			}
		}
	}
	if err != nil {
		if ctx.Err() != nil {
			return yard.Image{}, ctx.Err()
		}
		if client.IsErrConnectionFailed(err) {
			return yard.Image{}, e.wrap("fetch image "+ref, err)
		}
		return yard.Image{}, yard.Refused("nobody has image %s: %s", ref, firstLine(err))
	}
	img, ok, err := e.FindImage(ctx, ref)
	if err == nil && !ok {
		err = yard.Refused("image %s was fetched and is not there", ref)
	}
	img.Cached = false
	if len(layers) > 0 { // an engine may tell of none that is small
		img.Bytes = 0
		for _, n := range layers {
			img.Bytes += max(0, n)
		}
	}
	return img, err
}

// DropTag implements [yard.Builder].
func (e *images) DropTag(ctx context.Context, tag string) error {
	_, err := e.cli.ImageRemove(ctx, tag, client.ImageRemoveOptions{PruneChildren: true})
	if errdefs.IsConflict(err) { // still in use: it goes with its last user
		return nil
	}
	return e.wrap("remove image "+tag, gone(err))
}

// Rename implements [yard.Builder].
func (e *images) Rename(ctx context.Context, tag, name string) (yard.Image, error) {
	if _, err := e.cli.ImageTag(ctx, client.ImageTagOptions{Source: tag, Target: name}); err != nil {
		return yard.Image{}, e.wrap("name image "+name, err)
	}
	if err := e.DropTag(ctx, tag); err != nil {
		return yard.Image{}, err
	}
	img, ok, err := e.FindImage(ctx, name)
	if err == nil && !ok {
		err = yard.Refused("the image %s was named and is not there", name)
	}
	return img, err
}

// builder dials the engine's own builder.
func (e *conn) builder(ctx context.Context) (*buildkit.Client, error) {
	return buildkit.New(ctx, "", buildkit.WithContextDialer(func(ctx context.Context, _ string) (net.Conn, error) {
		return e.cli.DialHijack(ctx, "/grpc", "h2c", nil)
	}),
		buildkit.WithSessionDialer(func(ctx context.Context, proto string, meta map[string][]string) (net.Conn, error) {
			return e.cli.DialHijack(ctx, "/session", proto, meta)
		}))
}

// Build implements [yard.Builder]: the engine's own BuildKit, dialled through
// the engine's /grpc and /session. It is given the graph that BuildKit's front
// end for build files makes of them in this process; see [guard].
func (e *images) Build(ctx context.Context, b yard.Build, report func(yard.Progress)) (yard.Image, error) {
	// The graph is made in this process: what it comes to is known before.
	if err := definition.CheckBuildCost(b.Dockerfile, b.Args); err != nil {
		return yard.Image{}, yard.Refused("the build file comes to too much: %w", err)
	}
	ctx, end := e.disk(ctx).within(ctx, time.Second)
	defer end()
	bk, err := e.builder(ctx)
	if err != nil {
		return yard.Image{}, e.wrap("reach the builder", err)
	}
	defer bk.Close()
	file := staticfs.NewFS()
	// The builder takes a file of the same size and time for the same: it kept one
	// build file in the place of another.
	file.Add("Dockerfile", &types.Stat{Mode: 0o600, ModTime: time.Now().UnixNano()}, b.Dockerfile)
	mounts := map[string]fsutil.FS{"context": b.Context, "dockerfile": file}
	// A cmdline says that this is the front end which a "# syntax=" line would have.
	attrs := map[string]string{"cmdline": "yardbench", "filename": "Dockerfile", "label:" + LabelInstallation: e.Installation}
	if b.Closed {
		attrs["force-network-mode"] = "none"
	}
	if b.MemoryBytes > 0 { // the bounds of a command: older builders pass them over
		attrs["memory"] = strconv.FormatInt(b.MemoryBytes, 10)
	}
	if b.CoresMilli > 0 {
		attrs["cpuperiod"], attrs["cpuquota"] = "100000", strconv.FormatInt(b.CoresMilli*100, 10)
	}
	if e.Shares != nil && e.Shares.Builds { // all builds together
		if err := e.Shares.set(builds, yard.Share{CoresMilli: b.CoresMilli, MemoryBytes: b.MemoryBytes}); err != nil {
			return yard.Image{}, err
		}
	}
	if b.Target != "" {
		attrs["target"] = b.Target
	}
	for k, v := range b.Args {
		attrs["build-arg:"+k] = v
	}
	// Last, as an argument of the definition's could say otherwise.
	attrs["build-arg:BUILDKIT_CACHE_MOUNT_NS"] = b.CacheSpace
	var cache []buildkit.CacheOptionsEntry
	for _, ref := range b.CacheFrom {
		cache = append(cache, buildkit.CacheOptionsEntry{Type: "registry", Attrs: map[string]string{"ref": ref}})
	}
	secrets := map[string][]byte{}
	for name, v := range b.Secrets {
		secrets[name] = []byte(v)
	}
	news := make(chan *buildkit.SolveStatus)
	follow := follower{report: report, titles: map[string]string{}, ended: map[string]bool{}, allCached: true}
	var wg sync.WaitGroup
	wg.Go(func() { follow.run(news) })
	g := &guard{build: b, taken: map[string]bool{}}
	_, err = bk.Build(ctx, buildkit.SolveOpt{
		FrontendAttrs: attrs, LocalMounts: mounts, CacheImports: cache, SharedKey: b.CacheSpace,
		Session: []session.Attachable{secretsprovider.FromMap(secrets), signingIn{as: b.As}},
		Exports: []buildkit.ExportEntry{{Type: "moby", Attrs: map[string]string{"name": b.Tag}}},
	}, "", func(ctx context.Context, c gateway.Client) (*gateway.Result, error) {
		g.Client = c
		return builder.Build(ctx, g)
	}, news)
	wg.Wait()
	if g.refused != nil && ctx.Err() == nil { // who gives up is not refused
		return yard.Image{}, g.refused
	}
	if err != nil {
		return yard.Image{}, e.buildError(ctx, follow, err)
	}
	img, ok, err := e.FindImage(ctx, b.Tag)
	if err == nil && !ok {
		err = yard.Refused("the build of %s ended well and left no image", b.Tag)
	}
	img.Cached = follow.allCached
	return img, err
}

// signingIn gives the builder what it signs in to registries with, over the session of
// a build; the builder asks for tokens itself.
type signingIn struct {
	auth.UnimplementedAuthServer
	as registry.SignIns
}

// Register implements [session.Attachable].
func (s signingIn) Register(to *grpc.Server) { auth.RegisterAuthServer(to, s) }

// Credentials implements [auth.AuthServer]; none is anonymous.
func (s signingIn) Credentials(_ context.Context, of *auth.CredentialsRequest) (*auth.CredentialsResponse, error) {
	in, _ := s.as.At(of.Host)
	return &auth.CredentialsResponse{Username: in.Username, Secret: in.Password}, nil
}

// buildError says which step failed, and whether trying again could help.
func (e *images) buildError(ctx context.Context, f follower, err error) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if client.IsErrConnectionFailed(err) || (f.failed == "" && strings.Contains(err.Error(), "connection error")) {
		return fmt.Errorf("build the image: %w at %s: %s", yard.ErrAway, e.Host, firstLine(err))
	}
	cause := err.Error()
	for _, prefix := range []string{"failed to solve: ", "rpc error: code = Unknown desc = "} {
		cause = strings.TrimPrefix(cause, prefix)
	}
	cause, _, _ = strings.Cut(cause, "\n")
	if f.failed != "" {
		return yard.Refused("build step %s: %s", f.failed, cause)
	}
	return yard.Refused("build the image: %s", cause)
}

// follower turns the builder's news into ours.
type follower struct {
	report    func(yard.Progress)
	titles    map[string]string
	ended     map[string]bool
	allCached bool
	failed    string
}

func (f *follower) run(news <-chan *buildkit.SolveStatus) {
	for s := range news {
		for _, v := range s.Vertexes {
			id := v.Digest.String()
			// The builder writes a name in full that the file gave short.
			f.titles[id] = strings.Replace(v.Name, " docker.io/", " ", 1)
			if v.Started == nil || f.ended[id] || (strings.HasPrefix(v.Name, "[internal]") && v.Error == "") {
				continue
			}
			f.ended[id] = v.Completed != nil
			ofFile := strings.HasPrefix(v.Name, "[") && !strings.HasPrefix(v.Name, "[internal]") && !strings.Contains(v.Name, "] FROM ")
			if v.Completed != nil && !v.Cached && ofFile {
				f.allCached = false
			}
			if v.Error != "" && !strings.Contains(v.Error, "context canceled") {
				f.failed = f.titles[id]
			}
			f.report(yard.Progress{ID: id, Title: f.titles[id], StartedAt: v.Started, EndedAt: v.Completed, Cached: v.Cached, Err: v.Error})
		}
		for _, l := range s.Logs {
			id := l.Vertex.String()
			f.report(yard.Progress{ID: id, Title: f.titles[id], Log: l.Data})
		}
	}
}
