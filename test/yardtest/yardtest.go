// Package yardtest is the suite that every kind of yard must pass. A yard's
// own tests call it; nothing else does.
package yardtest

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/yard"
)

// Ground is what the suite needs of the place it runs in.
type Ground struct {
	Image string // an image the yard has, with a shell
	// Simulated yards run nothing: what programs print is not looked at.
	Simulated bool
	// Other starts a container as a stranger would, under a name.
	Other func(t *testing.T, name string)
}

// Conform runs the suite. fresh makes a yard of a new installation.
func Conform(t *testing.T, g Ground, fresh func(t *testing.T) yard.Yard) {
	t.Run("a body's life, everything twice", func(t *testing.T) { life(t, g, fresh(t)) })
	t.Run("services and what is mounted", func(t *testing.T) { services(t, g, fresh(t)) })
	t.Run("images", func(t *testing.T) { images(t, g, fresh(t)) })
	t.Run("installations are apart", func(t *testing.T) { apart(t, g, fresh(t), fresh(t)) })
	t.Run("containers of others", func(t *testing.T) { adopted(t, g, fresh(t), fresh(t)) })
	t.Run("what happens behind our back is told", func(t *testing.T) { watched(t, g, fresh(t)) })
}

func spec(g Ground, workspace string) yard.Body {
	return yard.Body{Workspace: workspace, Number: 1, Volume: 1, Folder: "/workspaces/x", Hostname: "x", Image: g.Image,
		Env: map[string]string{"A": "b c"}}
}

// twice does an operation two times: both must succeed.
func twice(t *testing.T, what string, do func() error) {
	t.Helper()
	for range 2 {
		if err := do(); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
	}
}

func up(t *testing.T, y yard.Yard, b yard.Body) {
	t.Helper()
	ctx := t.Context()
	twice(t, "network", func() error { return y.Make(ctx, yard.Network{Workspace: b.Workspace}) })
	twice(t, "volume", func() error {
		return y.Make(ctx, yard.Volume{Workspace: b.Workspace, Number: b.Volume, SizeBytes: 64 << 20})
	})
	twice(t, "body", func() error { return y.Make(ctx, b) })
	t.Cleanup(func() { down(t, y, b) })
}

func down(t *testing.T, y yard.Yard, b yard.Body) {
	ctx := context.Background()
	twice(t, "remove body", func() error {
		return y.Remove(ctx, yard.Part{Workspace: b.Workspace, Kind: yard.BodyPart, Number: b.Number})
	})
	twice(t, "remove volume", func() error {
		return y.Remove(ctx, yard.Part{Workspace: b.Workspace, Kind: yard.VolumePart, Number: b.Volume})
	})
	twice(t, "remove network", func() error { return y.Remove(ctx, yard.Part{Workspace: b.Workspace, Kind: yard.NetworkPart}) })
}

func body(t *testing.T, y yard.Yard, workspace string) lifecycle.Body {
	t.Helper()
	o, err := y.Observe(t.Context(), workspace)
	if err != nil {
		t.Fatal(err)
	}
	return o.Bodies[1]
}

func life(t *testing.T, g Ground, y yard.Yard) {
	ctx, b := t.Context(), spec(g, "life")
	if o, err := y.Observe(ctx, "life"); err != nil || o.Network || len(o.Bodies)+len(o.Volumes) != 0 {
		t.Fatalf("before its life there is %+v, %v", o, err)
	}
	up(t, y, b)
	if s := body(t, y, "life"); s != lifecycle.Created {
		t.Errorf("made, it is %q", s)
	}
	twice(t, "start", func() error { return y.Start(ctx, "life", 1) })
	if s := body(t, y, "life"); s != lifecycle.Running {
		t.Errorf("started, it is %q", s)
	}
	time.Sleep(time.Second) // until it listens to who asks
	began := time.Now()
	twice(t, "stop", func() error { return y.Stop(ctx, "life", 1, 30*time.Second) })
	if took := time.Since(began); took > 25*time.Second {
		t.Errorf("a body that ends when asked took %s", took)
	}
	o, err := y.Observe(ctx, "life")
	if err != nil || o.Bodies[1] != lifecycle.Ended || o.Ends[1] == "" || !o.Volumes[1] || !o.Network {
		t.Errorf("stopped, there is %+v, %v", o, err)
	}
	twice(t, "start again", func() error { return y.Start(ctx, "life", 1) })
	// A removal that was given up goes on in the yard: the next one waits for it.
	cut, cancel := context.WithTimeout(ctx, 20*time.Millisecond)
	defer cancel()
	_ = y.Remove(cut, yard.Part{Workspace: "life", Kind: yard.BodyPart, Number: 1}) // it may have been quick enough
	down(t, y, b)
	if o, err := y.Observe(ctx, "life"); err != nil || o.Network || len(o.Bodies)+len(o.Volumes) != 0 {
		t.Errorf("removed, there is %+v, %v", o, err)
	}
	if err := y.Start(ctx, "life", 1); !errors.Is(err, yard.ErrRefused) {
		t.Errorf("the start of a body that is gone is answered %v", err)
	}
}

// services tries what stands beside a body, and what is mounted into it.
func services(t *testing.T, g Ground, y yard.Yard) {
	ctx, b := t.Context(), spec(g, "beside")
	b.DiskBytes = 64 << 20
	b.Mounts = []definition.Mount{{Kind: definition.MountVolume, Source: "levels", Target: "/var/lib/levels"}, {Kind: definition.MountTmpfs, Target: "/scratch"}, {Kind: definition.MountTree, Source: "charts", Target: "/opt/charts"}}
	b.Aliases, b.Extra = []string{"work"}, definition.Extra{Dropped: []string{"MKNOD"}, Hostname: "bell", ShmBytes: 1 << 20}
	up(t, y, b)
	t.Cleanup(func() {
		twice(t, "remove the named volumes", func() error {
			return y.Remove(context.Background(), yard.Part{Workspace: "beside", Kind: yard.NamedPart})
		})
	})
	twice(t, "start", func() error { return y.Start(ctx, "beside", 1) })
	s := yard.ServiceSpec{Workspace: "beside", Number: 1, Volume: 1, Image: g.Image, DiskBytes: 64 << 20, MemoryBytes: 64 << 20,
		Service: definition.Service{Name: "tides", Command: []string{"sh", "-c", "echo mounted: $(readlink /seed) $(test -d /levels && echo levels); trap 'exit 0' TERM; while :; do sleep 0.05; done"}, Env: map[string]string{"A": "1"},
			Mounts: []definition.Mount{{Kind: definition.MountVolume, Source: "levels", Target: "/levels"}, {Kind: definition.MountTree, Source: "seed", Target: "/seed"}},
			Health: &definition.Health{Test: []string{"CMD-SHELL", "test $A = 1"}, Interval: 200 * time.Millisecond, Retries: 5}}}
	twice(t, "start a service", func() error { return y.(yard.Server).StartService(ctx, s) })
	bad := s
	bad.Service = definition.Service{Name: "ebb", Command: []string{"sh", "-c", "exit 4"}}
	twice(t, "start one that ends", func() error { return y.(yard.Server).StartService(ctx, bad) })
	var o yard.Observation
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		var err error
		if o, err = y.Observe(ctx, "beside"); err != nil {
			t.Fatal(err)
		}
		if o.Services[1]["tides"].Health == "healthy" && o.Services[1]["ebb"].Body == lifecycle.Ended {
			break
		}
	}
	if len(o.Bodies) != 1 || !o.Named || o.Services[1]["tides"].Health != "healthy" || o.Services[1]["ebb"].ExitCode != 4 || o.Services[1]["ebb"].Problem == "" {
		t.Errorf("beside it there is %+v", o)
	}
	var log strings.Builder
	if err := y.(yard.Server).ServiceLog(ctx, "beside", 1, "tides", 10, &log); err != nil || (!g.Simulated && !strings.HasSuffix(strings.TrimSpace(log.String()), "/seed levels")) {
		t.Errorf("the service printed %q, %v", log.String(), err)
	}
	if err := y.(yard.Server).ServiceLog(ctx, "beside", 1, "ghost", 10, io.Discard); !errors.Is(err, yard.ErrRefused) {
		t.Errorf("the log of a service that is not there is answered %v", err)
	}
	if err := y.Stop(ctx, "beside", 1, 5*time.Second); err != nil {
		t.Fatal(err)
	}
	if o, err := y.Observe(ctx, "beside"); err != nil || o.Services[1]["tides"].Body != lifecycle.Ended {
		t.Errorf("stopped with its body it is %+v, %v", o.Services, err)
	}
	down(t, y, b)
	twice(t, "remove the named volumes", func() error { return y.Remove(ctx, yard.Part{Workspace: "beside", Kind: yard.NamedPart}) })
	if o, err := y.Observe(ctx, "beside"); err != nil || o.Named || len(o.Services)+len(o.Bodies) != 0 {
		t.Errorf("removed, there is %+v, %v", o, err)
	}
	out, err := y.(yard.Trier).Try(ctx, g.Image, []string{"/bin/sh", "-c", "echo found; echo not this >&2; seq 2000"}, 4096)
	if err != nil || !strings.HasPrefix(string(out), "found\n") || (!g.Simulated && !strings.HasPrefix(string(out), "found\n1\n")) || len(out) > 4096 {
		t.Errorf("a try prints %.60q, %d bytes, %v", out, len(out), err)
	}
	if _, err := y.(yard.Trier).Try(ctx, "skerryline/nowhere:9", []string{"true"}, 1); !errors.Is(err, yard.ErrRefused) {
		t.Errorf("a try of an image that is not there is answered %v", err)
	}
}

func images(t *testing.T, g Ground, y yard.Yard) {
	ctx := t.Context()
	if img, err := y.UseImage(ctx, g.Image, nil, io.Discard); err != nil || !img.Cached || img.Digest == "" || img.Arch == "" {
		t.Errorf("an image that is there is %+v, %v", img, err)
	}
	if _, err := y.UseImage(ctx, "skerryline/nowhere:9", nil, io.Discard); !errors.Is(err, yard.ErrRefused) || !strings.Contains(err.Error(), "skerryline/nowhere:9") {
		t.Errorf("an image nobody has is answered %v", err)
	}
	dir := filepath.Join(t.TempDir(), "context")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "fares"), []byte("adult 68\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	tree, err := yard.Folder(dir)
	if err != nil {
		t.Fatal(err)
	}
	build := func(file string) (yard.Image, map[string]yard.Progress, string, error) {
		var mu sync.Mutex
		steps, log := map[string]yard.Progress{}, ""
		b := yard.Build{Tag: "yardbench/conform:1", Context: tree, Dockerfile: []byte("FROM " + g.Image + " AS first\n" + file), Args: map[string]string{"QUAY": "Ytre"}}
		img, err := y.(yard.Builder).Build(ctx, b, func(p yard.Progress) {
			mu.Lock()
			defer mu.Unlock()
			log += string(p.Log)
			if p.StartedAt != nil {
				steps[p.Title] = p
			}
		})
		return img, steps, log, err
	}
	defer func() {
		twice(t, "drop", func() error { return y.(yard.Builder).DropTag(context.Background(), "yardbench/conform:1") })
	}()
	const file = "ARG QUAY\nCOPY fares /fares\nRUN cat /fares && echo at $QUAY && : %s\nUSER 1000\n"
	stamp := time.Now().Format(time.RFC3339Nano)
	img, steps, log, err := build(strings.Replace(file, "%s", stamp, 1))
	if err != nil || img.User != "1000" || img.Cached || !strings.Contains(log, "adult 68\nat Ytre\n") {
		t.Fatalf("the build gave %+v, %v; its log is %q", img, err, log)
	}
	ran := 0
	for title, p := range steps {
		if strings.Contains(title, "RUN cat") && p.EndedAt != nil && !p.Cached && p.EndedAt.After(*p.StartedAt) {
			ran++
		}
	}
	if ran != 1 {
		t.Errorf("the steps are %+v", steps)
	}
	if img, _, _, err := build(strings.Replace(file, "%s", stamp, 1)); err != nil || !img.Cached {
		t.Errorf("built again, it is %+v, %v", img, err)
	}
	// It can be called otherwise, and looked through.
	const other = "yardbench/conform:2"
	builder := y.(yard.Builder)
	if img, err := builder.Rename(ctx, "yardbench/conform:1", other); err != nil || img.Ref != other || img.User != "1000" {
		t.Errorf("renamed, it is %+v, %v", img, err)
	}
	if _, ok, err := y.FindImage(ctx, "yardbench/conform:1"); ok || err != nil {
		t.Errorf("it has its first name still, or %v", err)
	}
	// What is given of the image below says nothing; simulated images hold no files.
	inIt, inBase := errors.New("in it"), errors.New("in what is below")
	for below, want := range map[string]error{g.Image: inIt, "": inBase} {
		files := 0
		err := y.(yard.Looker).LookInto(ctx, other, below, func(path string, r io.Reader) error {
			files++
			switch path {
			case "/fares":
				if text, err := io.ReadAll(r); err != nil || string(text) != "adult 68\n" {
					t.Errorf("%s holds %q, %v", path, text, err)
				}
				if below != "" {
					return inIt
				}
			case "/etc/passwd":
				return inBase
			}
			return nil
		})
		if files > 0 && !errors.Is(err, want) || files == 0 && err != nil {
			t.Errorf("with %q below it is answered %v, not %v", below, err, want)
		}
	}
	if _, err := builder.Rename(ctx, other, "yardbench/conform:1"); err != nil {
		t.Error(err)
	}
	if _, err := builder.Rename(ctx, other, "yardbench/conform:3"); err == nil {
		t.Error("what is not there is renamed")
	}
	if _, _, log, err := build("RUN echo the mast is gone && exit 3\n"); !errors.Is(err, yard.ErrRefused) || !strings.Contains(err.Error(), "exit code: 3") || !strings.Contains(log, "the mast is gone") {
		t.Errorf("a failing build is answered %v, its log is %q", err, log)
	}
	if _, _, _, err := build("RNU true\n"); !errors.Is(err, yard.ErrRefused) || !strings.Contains(strings.ToLower(err.Error()), "rnu") {
		t.Errorf("a build file with a mistake is answered %v", err)
	}
	cut, cancel := context.WithCancel(ctx)
	go func() { time.Sleep(700 * time.Millisecond); cancel() }()
	began := time.Now()
	if _, err := y.(yard.Builder).Build(cut, yard.Build{Tag: "yardbench/conform:1", Context: tree, Dockerfile: []byte("FROM " + g.Image + "\nRUN sleep 300 && : " + stamp)}, func(yard.Progress) {}); !errors.Is(err, context.Canceled) || time.Since(began) > time.Minute {
		t.Errorf("a build that is given up ends after %s with %v", time.Since(began), err)
	}
}

func apart(t *testing.T, g Ground, one, two yard.Yard) {
	ctx, b := t.Context(), spec(g, "same")
	up(t, one, b)
	up(t, two, b) // each has a network of its own
	if err := two.Start(ctx, "same", 1); err != nil {
		t.Fatal(err)
	}
	if ids, err := one.Workspaces(ctx); err != nil || len(ids) != 1 || ids[0] != "same" {
		t.Errorf("the first has %v, %v", ids, err)
	}
	down(t, one, b)
	if ids, err := one.Workspaces(ctx); err != nil || len(ids) != 0 {
		t.Errorf("when it is gone the first has %v, %v", ids, err)
	}
	if s := body(t, two, "same"); s != lifecycle.Running {
		t.Errorf("after the other's removal it is %q", s)
	}
}

func watched(t *testing.T, g Ground, y yard.Yard) {
	b := spec(g, "seen")
	up(t, y, b)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	connected, told := make(chan struct{}, 1), make(chan string, 100)
	go func() {
		_ = y.Watch(ctx, func() { connected <- struct{}{} }, func(w string, _ yard.News) { told <- w })
	}()
	<-connected
	if err := y.Start(ctx, "seen", 1); err != nil {
		t.Fatal(err)
	}
	if err := y.Stop(ctx, "seen", 1, 0); err != nil {
		t.Fatal(err)
	}
	for limit := time.After(time.Minute); ; {
		select {
		case w := <-told:
			if w != "seen" {
				t.Fatalf("told of %q", w)
			}
			if body(t, y, "seen") == lifecycle.Ended {
				return // the news of the end came when the end could be seen
			}
		case <-limit:
			t.Fatal("the end was not told")
		}
	}
}

// adopted takes a stranger's container on, and lets it go.
func adopted(t *testing.T, g Ground, y, neighbour yard.Yard) {
	ctx := t.Context()
	g.Other(t, "buoy")
	a := y.(yard.Adopter)
	find := func(y yard.Adopter) (o yard.Other) {
		all, err := y.Others(ctx)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range all {
			if c.Name == "buoy" {
				o = c
			}
		}
		return o
	}
	o := find(a)
	if o.ID == "" || o.Image != g.Image || o.Folder != "/srv" || o.MemoryBytes != 64<<20 || o.CoresMilli != 250 || o.StartedAt.IsZero() || o.Arch == "" {
		t.Fatalf("among others' containers it is %+v", o)
	}
	for range 2 {
		a.Adopt("taken", o.ID)
	}
	defer func() { _ = a.Release(context.WithoutCancel(ctx), "taken") }()
	if got := find(a); got.ID != "" {
		t.Errorf("taken on, it is still offered: %+v", got)
	}
	told := make(chan string, 100)
	connected, watching := make(chan struct{}, 1), make(chan struct{})
	watched, cancel := context.WithCancel(ctx)
	go func() {
		defer close(watching)
		_ = y.Watch(watched, func() { connected <- struct{}{} }, func(w string, _ yard.News) { told <- w })
	}()
	defer func() { cancel(); <-watching }()
	<-connected
	if !g.Simulated {
		for range 2 { // the second finds the steward that the first put in
			c, err := a.Reach(ctx, "taken")
			if err != nil {
				t.Fatalf("its steward is not reached: %v", err)
			}
			c.Close()
		}
	}
	if s := body(t, y, "taken"); s != lifecycle.Running {
		t.Errorf("taken on, it is %q", s)
	}
	if err := y.Remove(ctx, yard.Part{Workspace: "taken", Kind: yard.BodyPart, Number: 1}); !errors.Is(err, yard.ErrRefused) {
		t.Errorf("its removal is answered %v", err)
	}
	twice(t, "stop", func() error { return y.Stop(ctx, "taken", 1, 0) })
	select {
	case w := <-told:
		if w != "taken" {
			t.Errorf("told of %q", w)
		}
	case <-time.After(20 * time.Second):
		t.Error("its end was not told")
	}
	if s := body(t, y, "taken"); s != lifecycle.Ended {
		t.Errorf("stopped, it is %q", s)
	}
	if _, err := a.Reach(ctx, "taken"); !errors.Is(err, yard.ErrRefused) {
		t.Errorf("reached while it is stopped, it is answered %v", err)
	}
	twice(t, "start", func() error { return y.Start(ctx, "taken", 1) })
	twice(t, "let go", func() error { return a.Release(ctx, "taken") })
	if o, err := y.Observe(ctx, "taken"); err != nil || len(o.Bodies) != 0 {
		t.Errorf("let go, there is %+v, %v", o, err)
	}
	if got := find(a); got.ID != o.ID {
		t.Errorf("let go, it is %+v", got)
	}
	if ids, err := neighbour.Workspaces(ctx); err != nil || len(ids) != 0 {
		t.Errorf("a neighbour has %v of it, %v", ids, err)
	}
}
