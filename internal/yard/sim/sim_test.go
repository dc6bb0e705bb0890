package sim

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/yard"
	"yardbench/test/yardtest"
)

var theImages = map[string]yard.Image{"skerryline/base:1": {Digest: "sha256:1", Arch: "amd64"}}

// The same suite that the engine's yard passes.
func TestConforms(t *testing.T) {
	n, on := 0, Place(theImages)
	yardtest.Conform(t, yardtest.Ground{Image: "skerryline/base:1", Simulated: true, Other: func(*testing.T, string) {}}, func(t *testing.T) yard.Yard {
		n++
		y, err := New(fmt.Sprint("conform", n), on, Options{Others: []yard.Other{{ID: "0123456789abcdef", Name: "buoy", Image: "skerryline/base:1", Arch: "amd64", Folder: "/srv", StartedAt: time.Now(), CoresMilli: 250, MemoryBytes: 64 << 20}}, Addresses: netip.MustParsePrefix("10.214.0.0/16")})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { y.Close() })
		return y
	})
}

func brought(t *testing.T, y *Yard, id string) {
	t.Helper()
	ctx := t.Context()
	spec := yard.Body{Workspace: id, Number: 1, Volume: 1, Image: "skerryline/base:1", Mounts: []definition.Mount{{Kind: definition.MountVolume, Source: "v", Target: "/v"}}}
	for _, do := range []func() error{func() error { return y.Make(ctx, yard.Network{Workspace: id}) }, func() error { return y.Make(ctx, yard.Volume{Workspace: id, Number: 1, SizeBytes: 1}) }, func() error { return y.Make(ctx, spec) }, func() error { return y.Start(ctx, id, 1) }} {
		if err := do(); err != nil {
			t.Fatal(err)
		}
	}
}

// What it has outlives the service, as an engine's does.
func TestOutlives(t *testing.T) {
	o := Options{Dir: t.TempDir(), Images: theImages, Addresses: netip.MustParsePrefix("10.214.0.0/27")} // room for one network
	y, err := New("a", nil, o)
	if err != nil {
		t.Fatal(err)
	}
	brought(t, y, "w")
	y.addImage("made:1", yard.Image{Digest: "sha256:2"})
	if err := y.keepImages(); err != nil {
		t.Fatal(err)
	}
	if err := y.Make(t.Context(), yard.Volume{Workspace: "w", Number: 2, SizeBytes: 1}); err != nil {
		t.Fatal(err)
	}
	y.Close()
	again, err := New("a", nil, o)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	ob, err := again.Observe(t.Context(), "w")
	if err != nil || !ob.Network || !ob.Volumes[2] || ob.Bodies[1] != lifecycle.Running || !ob.Named {
		t.Errorf("after a restart there is %+v, %v", ob, err)
	}
	if _, ok, _ := again.FindImage(t.Context(), "made:1"); !ok {
		t.Error("an image is lost")
	}
	if err := again.Make(t.Context(), yard.Network{Workspace: "other"}); !errors.Is(err, yard.ErrRefused) || !strings.Contains(err.Error(), "used up") {
		t.Errorf("its piece of the range is given again: %v", err)
	}
	again.Kill("w", 1, "out of memory")
	if ob, _ := again.Observe(t.Context(), "w"); ob.Bodies[1] != lifecycle.Ended || ob.Ends[1] != "out of memory" {
		t.Errorf("killed, it is %+v", ob)
	}
}

// Faults come from the seed: the same each time, some after the deed.
func TestFaults(t *testing.T) {
	try := func(seed uint64) (trace string, done int) {
		y, err := New("a", nil, Options{Images: theImages, Faults: 300, Seed: seed})
		if err != nil {
			t.Fatal(err)
		}
		for n := range 100 {
			err := y.Make(t.Context(), yard.Volume{Workspace: "w", Number: n, SizeBytes: 1})
			trace += map[bool]string{true: ".", false: "x"}[err == nil]
			if err != nil && !errors.Is(err, yard.ErrAway) {
				t.Errorf("a fault is told as %v", err)
			}
		}
		return trace, len(y.has["w"].Volumes)
	}
	one, done := try(7)
	again, _ := try(7)
	other, _ := try(8)
	faults := 0
	for _, r := range one {
		if r == 'x' {
			faults++
		}
	}
	if one != again || one == other || faults < 10 || faults > 60 || done <= 100-faults || done == 100 {
		t.Errorf("%d faults, %d done:\n%s\n%s\n%s", faults, done, one, again, other)
	}
}

func TestTimesAndRoom(t *testing.T) {
	y, err := New("a", nil, Options{Images: theImages, Times: map[string]time.Duration{Fetch: time.Hour, Make: time.Millisecond}, Bodies: 1})
	if err != nil {
		t.Fatal(err)
	}
	defer y.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	if _, err := y.UseImage(ctx, "elsewhere:1", nil, io.Discard); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("a long step that is given up is answered %v", err)
	}
	brought(t, y, "one")
	spec := yard.Body{Workspace: "two", Number: 1, Image: "skerryline/base:1"}
	if err := errors.Join(y.Make(t.Context(), spec)); err != nil {
		t.Fatal(err)
	}
	if err := y.Start(t.Context(), "two", 1); !errors.Is(err, yard.ErrRefused) {
		t.Errorf("a full yard answers %v", err)
	}
}

func TestRun(t *testing.T) {
	for script, want := range map[string]string{"echo a && echo 'b c'; cat /x/fares": "a\nb c\nadult 68\n 0 true", "make all && exit 7": " 7 true", "false": " 1 true", "echo $QUAY": "Ytre\n 0 true", "sleep 1": " 0 true", "sleep infinity": " 0 false", "while :; do x; done": " 0 false", "": " 0 true"} {
		out, code, ends := run([]string{"/bin/sh", "-c", script}, map[string]string{"QUAY": "Ytre"}, map[string]string{"fares": "adult 68\n"})
		if got := fmt.Sprintf("%s %d %v", out, code, ends); got != want {
			t.Errorf("%q does %q, not %q", script, got, want)
		}
	}
}
