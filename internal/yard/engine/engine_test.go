package engine

import (
	"context"
	"errors"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
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
	n := 0
	conform := func(t *testing.T, disks *Disks) {
		yardtest.Conform(t, yardtest.Ground{Image: demo.BaseImage, Other: func(t *testing.T, name string) { stranger(t, host, name) }}, func(t *testing.T) yard.Yard {
			n++
			e, err := New(Config{Host: host, Installation: "conform" + string(rune('a'+n)), Addresses: netip.MustParsePrefix("10.214.0.0/16"), Disks: disks,
				Steward: func(arch string) (string, error) { return carried.Unpack(filepath.Join(dir, "stewards"), arch) },
				Link: func(workspace string, _ int) string {
					link := filepath.Join(dir, "links", workspace)
					if err := os.MkdirAll(link, 0o700); err != nil {
						t.Error(err)
					}
					return link
				}})
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

func TestNoEngine(t *testing.T) {
	e, err := New(Config{Host: "unix:///nowhere/engine.sock", Installation: "x", Addresses: netip.MustParsePrefix("10.214.0.0/16")})
	if err != nil {
		t.Fatal(err)
	}
	began := time.Now()
	_, err = e.Observe(t.Context(), "w")
	if !errors.Is(err, yard.ErrAway) || !strings.Contains(err.Error(), "/nowhere/engine.sock") || time.Since(began) > 20*time.Second {
		t.Errorf("an engine that is not there is answered %v after %s", err, time.Since(began))
	}
	if _, err := New(Config{Host: "gopher://x"}); err == nil {
		t.Error("an address no engine has is taken")
	}
}

// The lowest piece that nobody has is taken, whatever is used beside, and a
// range that is used up is said to be.
func TestFreePieces(t *testing.T) {
	r := netip.MustParsePrefix("10.213.0.0/24")
	for _, c := range []struct {
		used, over []string
		want       string
	}{
		{nil, nil, "10.213.0.0/27"},
		{[]string{"10.213.0.0/27"}, nil, "10.213.0.32/27"},
		{[]string{"10.213.0.32/27", "172.18.0.0/16"}, []string{"10.213.0.0/27"}, "10.213.0.64/27"},
		{[]string{"10.213.0.0/25"}, nil, "10.213.0.128/27"},
		{[]string{"10.213.0.5/30"}, nil, "10.213.0.32/27"},
		{[]string{"10.213.0.0/25"}, []string{"10.213.0.128/27", "10.213.0.160/27", "10.213.0.192/27"}, "10.213.0.224/27"},
		{[]string{"10.0.0.0/8"}, nil, ""},
	} {
		var used []netip.Prefix
		for _, u := range c.used {
			used = append(used, netip.MustParsePrefix(u))
		}
		p, ok := free(r, used, func(p netip.Prefix) bool { return slices.Contains(c.over, p.String()) })
		if ok != (c.want != "") || ok && p.String() != c.want {
			t.Errorf("beside %v and %v it is %v, %v", c.used, c.over, p, ok)
		}
	}
	if _, ok := free(netip.MustParsePrefix("fd00::/48"), nil, func(netip.Prefix) bool { return false }); ok {
		t.Error("a range that is no IPv4 is cut")
	}
}
