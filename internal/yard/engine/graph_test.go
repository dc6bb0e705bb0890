package engine

import (
	"context"
	"errors"
	"strings"
	"testing"

	"github.com/moby/buildkit/client/llb"
	"github.com/moby/buildkit/client/llb/sourceresolver"
	"github.com/moby/buildkit/frontend/dockerfile/dockerfile2llb"
	"github.com/moby/buildkit/frontend/dockerui"
	gateway "github.com/moby/buildkit/frontend/gateway/client"
	"github.com/moby/buildkit/solver/pb"
	"github.com/opencontainers/go-digest"
	"google.golang.org/protobuf/proto"

	"yardbench/internal/bound"
	"yardbench/internal/core/definition"
	"yardbench/internal/yard"
)

// reached is a builder that counts what reaches it.
type reached struct {
	gateway.Client
	solved   int
	resolved []string
	caches   []gateway.CacheOptionsEntry
}

func (r *reached) BuildOpts() gateway.BuildOpts {
	return gateway.BuildOpts{LLBCaps: pb.Caps.CapSet(nil)}
}

func (r *reached) Solve(_ context.Context, req gateway.SolveRequest) (*gateway.Result, error) {
	r.solved++
	r.caches = req.CacheImports
	return gateway.NewResult(), nil
}

func (r *reached) ResolveImageConfig(_ context.Context, ref string, _ sourceresolver.Opt) (string, digest.Digest, []byte, error) {
	r.resolved = append(r.resolved, ref)
	return ref, "", []byte("{}"), nil
}

// Nothing passes the guard that was not asked for, whatever the graph holds.
func TestGuard(t *testing.T) {
	command := func(change func(*pb.ExecOp)) *pb.Op {
		e := &pb.ExecOp{Meta: &pb.Meta{Args: []string{"true"}}, Mounts: []*pb.Mount{{Dest: "/c", MountType: pb.MountType_CACHE, CacheOpt: &pb.CacheOpt{ID: "mine/c"}}}}
		change(e)
		return &pb.Op{Op: &pb.Op_Exec{Exec: e}}
	}
	from := func(id string) *pb.Op { return &pb.Op{Op: &pb.Op_Source{Source: &pb.SourceOp{Identifier: id}}} }
	cache := func(id string) *pb.Op { return command(func(e *pb.ExecOp) { e.Mounts[0].CacheOpt.ID = id }) }
	for name, c := range map[string]struct {
		op     *pb.Op
		closed bool
		says   string // "" where it passes
	}{
		"a command":                      {command(func(*pb.ExecOp) {}), false, ""},
		"the context":                    {from("local://context"), false, ""},
		"an image that was asked for":    {from("docker-image://docker.io/library/asked:latest"), false, ""},
		"by the builder's digest":        {from("docker-image://docker.io/library/asked:latest@sha256:00"), false, ""},
		"an image that was not":          {from("docker-image://docker.io/library/other:latest"), false, "did not ask for it before"},
		"an address":                     {from("https://ferry.example/x"), false, ""},
		"an address that may not be":     {from("https://no.example/x"), false, "no"},
		"a repository":                   {&pb.Op{Op: &pb.Op_Source{Source: &pb.SourceOp{Identifier: "git://ferry.example/x", Attrs: map[string]string{pb.AttrFullRemoteURL: "https://no.example/x"}}}}, false, "no"},
		"a layout of the builder's disk": {from("oci-layout://x@sha256:00"), false, "not known"},
		"another's cache":                {cache("theirs/c"), false, "not its repository's"},
		"another's cache of a like name": {cache("mine-too/c"), false, "not its repository's"},
		"a way to another's cache":       {cache("mine/../theirs/c"), false, "not its repository's"},
		"the engine's network":           {command(func(e *pb.ExecOp) { e.Network = pb.NetMode_HOST }), false, "own network"},
		"a network where there is none":  {command(func(*pb.ExecOp) {}), true, "give builds none"},
		"no network where there is none": {command(func(e *pb.ExecOp) { e.Network = pb.NetMode_NONE }), true, ""},
		"no bounds":                      {command(func(e *pb.ExecOp) { e.Security = pb.SecurityMode_INSECURE }), false, "without bounds"},
		"a device":                       {command(func(e *pb.ExecOp) { e.CdiDevices = []*pb.CDIDevice{{Name: "x"}} }), false, "a device"},
		"a build within":                 {&pb.Op{Op: &pb.Op_Build{Build: &pb.BuildOp{}}}, false, "not known"},
		"files that are left out": {&pb.Op{Op: &pb.Op_File{File: &pb.FileOp{Actions: []*pb.FileAction{{Action: &pb.FileAction_Copy{Copy: &pb.FileActionCopy{ExcludePatterns: []string{"x"}}}}}}}}, false,
			"too old"},
		"files":           {&pb.Op{Op: &pb.Op_File{File: &pb.FileOp{Actions: []*pb.FileAction{{Action: &pb.FileAction_Copy{Copy: &pb.FileActionCopy{}}}}}}}, false, ""},
		"what is no step": {nil, false, "graph"},
	} {
		b := &reached{}
		g := &guard{Client: b, taken: map[string]bool{}, build: yard.Build{CacheSpace: "mine", Closed: c.closed, Take: func(s yard.BuildSource) (string, error) {
			if strings.Contains(s.Name, "no.example") {
				return "", errors.New("no")
			}
			return strings.Replace(s.Name, "short", "asked", 1), nil
		}}}
		if to, _, _, err := g.ResolveImageConfig(t.Context(), "docker.io/library/short:latest", sourceresolver.Opt{}); err != nil || to != "docker.io/library/asked:latest" || b.resolved[0] != to {
			t.Fatalf("%s: an image is taken as %s, %v; the builder was asked for %v", name, to, err, b.resolved)
		}
		raw := []byte("\xff")
		if c.op != nil {
			var err error
			if raw, err = proto.Marshal(c.op); err != nil {
				t.Fatal(err)
			}
		}
		_, err := g.Solve(t.Context(), gateway.SolveRequest{Definition: &pb.Definition{Def: [][]byte{raw}}})
		if c.says == "" && (err != nil || b.solved != 1) || c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says) || b.solved != 0 || g.refused == nil) {
			t.Errorf("%s: %v, and %d reached the builder", name, err, b.solved)
		}
	}
	b := &reached{}
	g := &guard{Client: b, taken: map[string]bool{}, build: yard.Build{Take: func(yard.BuildSource) (string, error) { return "", errors.New("no") }}}
	for name, req := range map[string]gateway.SolveRequest{
		"a front end":      {Frontend: "gateway.v0"},
		"nothing":          {},
		"a cache's image":  {Definition: &pb.Definition{}, CacheImports: []gateway.CacheOptionsEntry{{Type: "registry", Attrs: map[string]string{"ref": "x"}}}},
		"a cache's folder": {Definition: &pb.Definition{}, CacheImports: []gateway.CacheOptionsEntry{{Type: "local"}}},
	} {
		if _, err := g.Solve(t.Context(), req); err == nil || b.solved != 0 {
			t.Errorf("%s passes", name)
		}
	}
	mirrored := &guard{Client: b, taken: map[string]bool{}, build: yard.Build{Take: func(s yard.BuildSource) (string, error) { return "mirror.example/" + s.Name, nil }}}
	if _, err := mirrored.Solve(t.Context(), gateway.SolveRequest{Definition: &pb.Definition{}, CacheImports: []gateway.CacheOptionsEntry{{Type: "registry", Attrs: map[string]string{"ref": "x"}}}}); err != nil || len(b.caches) != 1 || b.caches[0].Attrs["ref"] != "mirror.example/x" {
		t.Errorf("a cache is taken from %+v, %v", b.caches, err)
	}
	if _, err := g.NewContainer(t.Context(), gateway.NewContainerRequest{}); err == nil {
		t.Error("a container beside a build is made")
	}
	if _, err := g.ResolveSourceMetadata(t.Context(), &pb.SourceOp{Identifier: "https://x.example"}, sourceresolver.Opt{}); err == nil {
		t.Error("an address is asked for")
	}
}

// FuzzGraph: whatever a build file says that is let through, its graph is made
// in bounded memory and time, and comes to what the guard can look at.
func FuzzGraph(f *testing.F) {
	f.Add([]byte("FROM a AS b\nENV A=1 B=$A\nRUN --mount=type=cache,target=/c <<E\nx\nE\nFROM b\nCOPY --from=b --link /x /y\nADD http://x/y /z\n"))
	f.Add([]byte("# syntax=x\nARG A=b\nFROM $A\nONBUILD RUN x\nHEALTHCHECK CMD x\nEXPOSE 1-9\nVOLUME [\"/a\"]\n"))
	f.Add([]byte("FROM a\nENV A=xxxxxxxxxxxxxxxx\n" + strings.Repeat("ENV A=$A$A\n", 14)))
	f.Add([]byte("FROM a\nENV A=" + strings.Repeat("x", 60_000) + "\n" + strings.Repeat("RUN x\n", 900)))
	f.Add([]byte("FROM a\nENV A=" + strings.Repeat("x", 2000) + "\nENV B=${A//x/" + strings.Repeat("y", 1000) + "}\n"))
	f.Add([]byte("FROM a\n" + strings.Repeat("RUN x\n", 1990)))
	f.Add([]byte("FROM a\nCOPY <<E /x\n" + strings.Repeat("$PATH", 500) + "\nE\n"))
	f.Fuzz(func(t *testing.T, file []byte) {
		if len(file) > definition.MaxBytes || definition.CheckBuildCost(file, nil) != nil {
			return
		}
		bound.Hold(t, 512, func() {
			b := &reached{}
			g := &guard{Client: b, taken: map[string]bool{}, build: yard.Build{CacheSpace: "mine"}}
			local := llb.Local("context")
			made, err := dockerfile2llb.Dockerfile2LLB(t.Context(), file, dockerfile2llb.ConvertOpt{MainContext: &local, MetaResolver: g, Config: dockerui.Config{CacheIDNamespace: "mine"}})
			if err != nil {
				return
			}
			def, err := made.State.Marshal(t.Context())
			if err != nil {
				return
			}
			_, _ = g.Solve(t.Context(), gateway.SolveRequest{Definition: def.ToPB()}) // it may be refused
		})
	})
}
