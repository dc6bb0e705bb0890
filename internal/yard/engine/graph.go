package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"sync"

	"github.com/distribution/reference"
	"github.com/moby/buildkit/client/llb/sourceresolver"
	gateway "github.com/moby/buildkit/frontend/gateway/client"
	"github.com/moby/buildkit/solver/pb"
	"github.com/moby/buildkit/util/apicaps"
	"github.com/opencontainers/go-digest"
	"google.golang.org/protobuf/proto"

	"yardbench/internal/yard"
)

// guard stands between the builder's own Dockerfile front end, which runs in
// this process, and the builder. All that the front end wants resolved or
// solved passes here: what is let through is what is built, and nothing else
// reaches the builder. It needs no newer builder for newer syntax.
type guard struct {
	gateway.Client
	build yard.Build
	mu    sync.Mutex // images are asked for side by side
	// refused is the first thing that was not let through: the builder hands
	// errors on as words only.
	refused error
	taken   map[string]bool // the names of the images that were let through
}

func (g *guard) refuse(err error) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.refused == nil {
		g.refused = err
	}
	return err
}

// take asks whether a source may be taken, and by which name.
func (g *guard) take(kind yard.BuildSourceKind, name string) (string, error) {
	if g.build.Take == nil {
		return name, nil
	}
	to, err := g.build.Take(yard.BuildSource{Kind: kind, Name: name})
	if err != nil {
		return "", g.refuse(err)
	}
	return to, nil
}

// ResolveImageConfig implements [gateway.Client]: every image that a build
// begins with, copies from or mounts is asked for here first.
func (g *guard) ResolveImageConfig(ctx context.Context, ref string, opt sourceresolver.Opt) (string, digest.Digest, []byte, error) {
	to, err := g.take(yard.ImageSource, ref)
	if err != nil {
		return "", "", nil, err
	}
	if named, err := reference.ParseNormalizedNamed(to); err == nil {
		to = reference.TagNameOnly(named).String()
	}
	g.mu.Lock()
	g.taken[to] = true
	g.mu.Unlock()
	_, sum, config, err := g.Client.ResolveImageConfig(ctx, to, opt)
	if err == nil {
		err = g.small(to, config)
	}
	return to, sum, config, err
}

// Bounds on what an image says of itself: its variables and triggers are put
// into the graph, in this process.
const (
	maxImageConfig   = 1 << 20
	maxImageEnv      = 64 << 10
	maxTriggers      = 16 << 10 // bytes
	maxTriggerValues = 20       // variables in them
)

// small holds what an image says of itself to bounds.
func (g *guard) small(name string, config []byte) error {
	var c struct {
		Config struct{ Env, OnBuild []string }
	}
	if len(config) > maxImageConfig {
		return g.refuse(yard.Refused("what the image %s says of itself has more than the %d bytes allowed", name, maxImageConfig))
	}
	if err := json.Unmarshal(config, &c); err != nil {
		return g.refuse(yard.Refused("what the image %s says of itself cannot be read: %w", name, err))
	}
	env, triggers := strings.Join(c.Config.Env, "\n"), strings.Join(c.Config.OnBuild, "\n")
	if len(env) > maxImageEnv || len(triggers) > maxTriggers || strings.Count(triggers, "$") > maxTriggerValues {
		return g.refuse(yard.Refused("the image %s brings more variables or triggers (ONBUILD) than are allowed", name))
	}
	return nil
}

// ResolveSourceMetadata implements [gateway.Client].
func (g *guard) ResolveSourceMetadata(ctx context.Context, op *pb.SourceOp, opt sourceresolver.Opt) (*sourceresolver.MetaResponse, error) {
	if err := g.source(op); err != nil {
		return nil, err
	}
	return g.Client.ResolveSourceMetadata(ctx, op, opt)
}

// NewContainer implements [gateway.Client]: a build file asks for none.
func (g *guard) NewContainer(context.Context, gateway.NewContainerRequest) (gateway.Container, error) {
	return nil, g.refuse(yard.Refused("the build asks for a container beside it"))
}

// Solve implements [gateway.Client].
func (g *guard) Solve(ctx context.Context, req gateway.SolveRequest) (*gateway.Result, error) {
	if req.Frontend != "" || len(req.FrontendInputs) > 0 {
		return nil, g.refuse(yard.Refused("the build asks for a front end of its own, %s", req.Frontend))
	}
	if req.Definition == nil {
		return nil, g.refuse(yard.Refused("the build comes to nothing"))
	}
	for _, raw := range req.Definition.Def {
		var op pb.Op
		if err := proto.Unmarshal(raw, &op); err != nil {
			return nil, g.refuse(fmt.Errorf("read the graph of the build: %w", err))
		}
		if err := g.operation(&op); err != nil {
			return nil, err
		}
	}
	caches := make([]gateway.CacheOptionsEntry, len(req.CacheImports))
	for i, c := range req.CacheImports {
		if c.Type != "registry" {
			return nil, g.refuse(yard.Refused("the build takes its cache from a %s", c.Type))
		}
		to, err := g.take(yard.ImageSource, c.Attrs["ref"])
		if err != nil {
			return nil, err
		}
		caches[i] = gateway.CacheOptionsEntry{Type: c.Type, Attrs: map[string]string{"ref": to}} // by its mirror, as every image
	}
	req.CacheImports = caches
	return g.Client.Solve(ctx, req)
}

// operation holds one step of the graph.
func (g *guard) operation(op *pb.Op) error {
	switch o := op.Op.(type) {
	case *pb.Op_Source:
		return g.source(o.Source)
	case *pb.Op_Exec:
		return g.command(o.Exec)
	case *pb.Op_File:
		return g.files(o.File)
	case *pb.Op_Merge, *pb.Op_Diff, nil: // of what other steps have; nil is the end
		return nil
	default:
		return g.refuse(yard.Refused("the build has a step of a kind that is not known, %T", op.Op))
	}
}

// files holds what a step does with files of other steps: a builder passes over
// what it is too old for without a word. Steps of other kinds say what they
// need, and the client holds it against what the builder knows.
func (g *guard) files(f *pb.FileOp) error {
	known := g.BuildOpts().LLBCaps
	for _, a := range f.Actions {
		c := a.GetCopy()
		for needed, is := range map[apicaps.CapID]bool{
			pb.CapFileCopyIncludeExcludePatterns:         len(c.GetIncludePatterns())+len(c.GetExcludePatterns()) > 0,
			pb.CapFileCopyRequiredPaths:                  len(c.GetRequiredPaths()) > 0,
			pb.CapFileCopyAlwaysReplaceExistingDestPaths: c.GetAlwaysReplaceExistingDestPaths(),
			pb.CapFileCopyModeStringFormat:               c.GetModeStr() != "",
			pb.CapFileSymlinkCreate:                      a.GetSymlink() != nil,
		} {
			if is && known.Supports(needed) != nil {
				return g.refuse(yard.Refused("the yard's builder is too old for the build file: it does not know %s; write it another way, or have the engine renewed", needed))
			}
		}
	}
	return nil
}

// source holds what a step takes from outside.
func (g *guard) source(s *pb.SourceOp) error {
	scheme, name, _ := strings.Cut(s.Identifier, "://")
	switch scheme {
	case "local": // the build's own context, and the build file
		return nil
	case "docker-image":
		tagged, _, _ := strings.Cut(name, "@")
		g.mu.Lock()
		known := g.taken[name] || g.taken[tagged] // to the latter the builder's digest was added
		g.mu.Unlock()
		if !known {
			return g.refuse(yard.Refused("the build takes the image %s and did not ask for it before", name))
		}
		return nil
	case "http", "https":
		_, err := g.take(yard.AddressSource, s.Identifier)
		return err
	case "git":
		address := s.Attrs[pb.AttrFullRemoteURL]
		if address == "" {
			address = s.Identifier
		}
		_, err := g.take(yard.GitSource, address)
		return err
	}
	return g.refuse(yard.Refused("the build takes something from %s, which is not known", s.Identifier))
}

// command holds what a command of the build is run with.
func (g *guard) command(e *pb.ExecOp) error {
	switch {
	case e.Network == pb.NetMode_HOST:
		return g.refuse(yard.Refused("a command of the build asks for the engine's own network"))
	case e.Network != pb.NetMode_NONE && g.build.Closed:
		return g.refuse(yard.Refused("a command of the build asks for a network, and the house rules give builds none"))
	case e.Security != pb.SecurityMode_SANDBOX:
		return g.refuse(yard.Refused("a command of the build asks to be run without bounds"))
	case len(e.CdiDevices) > 0:
		return g.refuse(yard.Refused("a command of the build asks for a device"))
	}
	for _, m := range e.Mounts {
		if c := m.CacheOpt; c != nil && (!strings.HasPrefix(c.ID, g.build.CacheSpace+"/") || strings.Contains(c.ID, "..")) {
			return g.refuse(yard.Refused("a command of the build asks for the cache %s, which is not its repository's", c.ID))
		}
	}
	return nil
}
