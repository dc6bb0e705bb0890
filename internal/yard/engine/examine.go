package engine

import (
	"context"
	"slices"
	"strings"

	buildkit "github.com/moby/buildkit/client"
	gateway "github.com/moby/buildkit/frontend/gateway/client"
	"github.com/moby/buildkit/solver/pb"
	"github.com/moby/moby/client"

	"yardbench/internal/yard"
)

// Examine implements [yard.Examiner].
func (e *Engine) Examine(ctx context.Context) ([]yard.Opening, error) {
	in, err := e.cli.Info(ctx, client.InfoOptions{})
	if err != nil {
		return nil, e.wrap("look at the engine", err)
	}
	bridge, err := e.cli.NetworkInspect(ctx, "bridge", client.NetworkInspectOptions{})
	if err != nil {
		return nil, e.wrap("look at the engine's own network", err)
	}
	bounds, err := e.boundsBuilds(ctx)
	if err != nil {
		return nil, e.wrap("reach the builder", err)
	}
	return openings(facts{
		host: e.Host, security: in.Info.SecurityOptions, apart: bridge.Network.Options["com.docker.network.bridge.enable_icc"] == "false",
		boundsBuilds: bounds || e.Shares != nil && e.Shares.Builds && e.Shares.used(builds), disks: e.Disks != nil, together: e.Shares != nil,
	}), nil
}

// boundsBuilds tells whether the builder can bound a command of a build.
func (e *conn) boundsBuilds(ctx context.Context) (can bool, err error) {
	bk, err := e.builder(ctx)
	if err != nil {
		return false, err
	}
	defer bk.Close()
	_, err = bk.Build(ctx, buildkit.SolveOpt{}, "", func(_ context.Context, c gateway.Client) (*gateway.Result, error) {
		caps := c.BuildOpts().LLBCaps
		can = caps.Supports(pb.CapExecMetaLinuxResources) == nil
		return gateway.NewResult(), nil
	}, nil)
	return can, err
}

// facts are what is known of an engine.
type facts struct {
	host                                 string
	security                             []string // as the engine lists them: name=seccomp,profile=default
	apart, boundsBuilds, disks, together bool
}

// openings are what facts leave open.
func openings(f facts) (out []yard.Opening) {
	say := func(is bool, kind, what, how string) {
		if is {
			out = append(out, yard.Opening{Kind: kind, What: what, Close: how})
		}
	}
	has := func(name string) bool {
		return slices.ContainsFunc(f.security, func(s string) bool { return s == "name="+name || strings.HasPrefix(s, "name="+name+",") })
	}
	far := ""
	if !strings.HasPrefix(f.host, "unix://") {
		far = "; of one on another machine not even that"
	}
	say(strings.HasPrefix(f.host, "tcp://"), "engine-by-tcp", "the service speaks to the engine over a network in the clear: whoever reaches that address has its machine", "give the engine's socket: unix://…")
	say(!has("seccomp"), "no-seccomp", "containers may make every system call", "start the engine with its usual seccomp profile")
	say(!has("apparmor") && !has("selinux"), "no-mandatory-access", "neither AppArmor nor SELinux stands behind the walls of a container", "turn one of them on, on the engine's machine")
	say(!has("userns") && !has("rootless"), "no-user-namespaces", "root in a container is root to the kernel, held by capabilities and the system call filter alone", "where nothing needs otherwise, start the engine with --userns-remap")
	say(!f.apart, "builds-together", "builds reach each other, and containers that were taken on, over the engine's own network", "start the engine with --icc=false, or close the network of builds by the house rules: builds: {network: closed}")
	say(!f.boundsBuilds, "builds-unbounded", "a command of a build may use all memory and processors of the engine's machine, as far as is known: its builder cannot bound them, and no build has run in the group "+BuildsGroup+" yet", "start the engine with --cgroup-parent="+BuildsGroup+" and the service with --bound-together --bound-builds, or have the engine renewed")
	say(!f.disks, "disks-measured", "what a workspace writes is measured and stopped late, not bounded", "start the service with --bound-disks, as root beside the engine")
	say(!f.together, "size-for-each", "each service beside a workspace may use as much as the workspace", "start the service with --bound-together, as root beside an engine that drives control groups itself")
	say(true, "layers-unbounded", "what containers and builds write outside of volumes is ended when the engine's disk gets short, not bounded for each"+far, "give the engine's data a disk of its own")
	return out
}
