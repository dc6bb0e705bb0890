package engine

import (
	"net/netip"
	"os"
	"path/filepath"
	"testing"

	"github.com/moby/moby/api/types/network"
	"github.com/moby/moby/client"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/demo"
	"yardbench/internal/steward/carried"
	"yardbench/internal/yard"
)

// An engine that was asked for a network by a service that was killed may make it
// after the next service has its own. The workspace comes up all the same, and both go.
func TestTwoNetworksOfAName(t *testing.T) {
	host := os.Getenv("YARDBENCH_TEST_ENGINE")
	if host == "" {
		t.Skip("needs a container engine: run it by `make test`")
	}
	dir, ctx := t.TempDir(), t.Context()
	e, err := New(Config{Host: host, Installation: "twonets", Addresses: netip.MustParsePrefix("10.216.0.0/16"),
		Steward: func(arch string) (string, error) { return carried.Unpack(filepath.Join(dir, "stewards"), arch) },
		Link:    func(string, int) string { return t.TempDir() }})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { e.Close() })
	another := func(piece string) {
		t.Helper()
		if _, err := e.cli.NetworkCreate(ctx, e.name("quay"), client.NetworkCreateOptions{Driver: "bridge", Labels: e.labels("quay", 0),
			IPAM: &network.IPAM{Config: []network.IPAMConfig{{Subnet: netip.MustParsePrefix(piece)}}}}); err != nil {
			t.Fatal(err)
		}
	}
	b := yard.Body{Workspace: "quay", Number: 1, Volume: 1, Folder: "/workspaces/x", Hostname: "x", Image: demo.BaseImage}
	for _, step := range []func() error{
		func() error { return e.Make(ctx, yard.Network{Workspace: "quay"}) },
		func() error { return e.Make(ctx, yard.Volume{Workspace: "quay", Number: 1}) },
		func() error { return e.Make(ctx, b) },
		func() error { another("10.217.0.0/27"); return nil },
		func() error { return e.Start(ctx, "quay", 1) },
	} {
		if err := step(); err != nil {
			t.Fatal(err)
		}
	}
	all, err := e.cli.NetworkList(ctx, client.NetworkListOptions{Filters: e.mine("quay")})
	o, oerr := e.Observe(ctx, "quay")
	if err != nil || oerr != nil || len(all.Items) != 1 || o.Bodies[1] != lifecycle.Running {
		t.Errorf("it is %v with %d networks, %v, %v", o.Bodies, len(all.Items), err, oerr)
	}
	another("10.217.0.32/27")
	for _, kind := range []yard.Kind{yard.BodyPart, yard.VolumePart, yard.NetworkPart} {
		if err := e.Remove(ctx, yard.Part{Kind: kind, Workspace: "quay", Number: 1}); err != nil {
			t.Error(err)
		}
	}
	if left, err := e.Workspaces(ctx); err != nil || len(left) > 0 {
		t.Errorf("left are %v, %v", left, err)
	}
}
