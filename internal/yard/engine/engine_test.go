package engine

import (
	"context"
	"errors"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"

	"yardbench/internal/demo"
	"yardbench/internal/steward/carried"
	"yardbench/internal/yard"
	"yardbench/test/yardtest"
)

func TestConforms(t *testing.T) {
	host := os.Getenv("YARDBENCH_TEST_ENGINE")
	if host == "" {
		t.Skip("needs a container engine: run it by `make test`")
	}
	dir, err := os.MkdirTemp("", "yb")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	bin := filepath.Join(dir, "bin")
	if err := os.MkdirAll(bin, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(bin, "steward"), []byte("#!/bin/sh\ntrap 'exit 0' TERM\nwhile :; do sleep 0.05; done\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	n := 0
	conform := func(t *testing.T, disks *Disks) {
		yardtest.Conform(t, yardtest.Ground{Image: demo.BaseImage, StewardDir: bin, Shared: dir, Other: func(t *testing.T, name string) { stranger(t, host, name) }, Steward: stewards(filepath.Join(dir, "stewards"))}, func(t *testing.T) yard.Yard {
			n++
			e, err := New(host, "conform"+string(rune('a'+n)), netip.MustParsePrefix("10.214.0.0/16"), disks)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { e.Close() })
			return e
		})
	}
	t.Run("measured disks", func(t *testing.T) { conform(t, nil) })
	t.Run("bounded disks", func(t *testing.T) {
		disks, err := NewDisks(filepath.Join(dir, "disks"))
		if err != nil {
			t.Skip("needs loop devices, losetup and mkfs.ext4, as root: ", err)
		}
		conform(t, disks)
		if left, _ := filepath.Glob(filepath.Join(dir, "disks", "*")); len(left) > 0 {
			t.Errorf("disks are left: %v", left)
		}
	})
}

// stranger starts a container that is none of ours.
func stranger(t *testing.T, host, name string) {
	cli, err := client.New(client.WithHost(host))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_, err := cli.ContainerRemove(context.Background(), name, client.ContainerRemoveOptions{Force: true})
		if err := errors.Join(gone(err), cli.Close()); err != nil {
			t.Error(err)
		}
	})
	_, err = cli.ContainerCreate(t.Context(), client.ContainerCreateOptions{Name: name, Config: &container.Config{Image: demo.BaseImage, Cmd: []string{"sleep", "900"}, WorkingDir: "/srv"},
		HostConfig: &container.HostConfig{Resources: container.Resources{NanoCPUs: 25e7, Memory: 64 << 20}}})
	if err == nil {
		_, err = cli.ContainerStart(t.Context(), name, client.ContainerStartOptions{})
	}
	if err != nil {
		t.Fatal(err)
	}
}

func stewards(dir string) func(arch string) (string, error) {
	return func(arch string) (string, error) {
		folder, err := carried.Unpack(dir, arch)
		return filepath.Join(folder, "steward"), err
	}
}

func TestNoEngine(t *testing.T) {
	e, err := New("unix:///nowhere/engine.sock", "x", netip.MustParsePrefix("10.214.0.0/16"), nil)
	if err != nil {
		t.Fatal(err)
	}
	began := time.Now()
	_, err = e.Observe(t.Context(), "w")
	if !errors.Is(err, yard.ErrAway) || !strings.Contains(err.Error(), "/nowhere/engine.sock") || time.Since(began) > 20*time.Second {
		t.Errorf("an engine that is not there is answered %v after %s", err, time.Since(began))
	}
	if _, err := New("gopher://x", "x", netip.Prefix{}, nil); err == nil {
		t.Error("an address no engine has is taken")
	}
}

func TestSyntaxOf(t *testing.T) {
	for version, want := range map[string]string{"20.10.24+dfsg1": "1.2", "23.0.1": "1.5", "28.3.2": "1.14", "31.0.0": "", "dev": ""} {
		if got := syntaxOf(version); got != want {
			t.Errorf("engine %s knows %q, not %q", version, got, want)
		}
	}
}

func TestCut(t *testing.T) {
	r := netip.MustParsePrefix("10.213.0.0/24")
	for n, want := range map[int]string{0: "10.213.0.0/27", 1: "10.213.0.32/27", 7: "10.213.0.224/27", 8: "", 1 << 30: ""} {
		p, err := cut(r, n)
		if (err == nil) != (want != "") || (err == nil && p.String() != want) {
			t.Errorf("piece %d is %v, %v", n, p, err)
		}
	}
}
