package serve_test

import (
	"cmp"
	"context"
	"fmt"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"yardbench/client"
	"yardbench/internal/demo"
	"yardbench/internal/serve"
	"yardbench/internal/service"
	"yardbench/wire"
)

// simulated runs the whole service over a simulated yard and a git host with
// the demo's repositories, and some of our own.
func simulated(t *testing.T, own map[string]map[string]string) (c *client.Client, push func(repository string, files map[string]string)) {
	t.Helper()
	dir, err := os.MkdirTemp("", "ybv")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	bare, trees := filepath.Join(dir, "git"), filepath.Join(dir, "trees")
	for name, files := range own {
		for p, text := range files {
			at := filepath.Join(trees, "repositories", name, p)
			if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(at, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		if err := demo.MakeRepository(t.Context(), bare, name, os.DirFS(trees)); err != nil {
			t.Fatal(err)
		}
	}
	handler, err := demo.GitHost(bare, func() string { return "" })
	if err != nil {
		t.Fatal(err)
	}
	host := httptest.NewServer(handler)
	t.Cleanup(host.Close)
	git := strings.Replace(host.URL, "127.0.0.1", "git.skerryline.localhost", 1)
	ctx, cancel := context.WithCancel(t.Context())
	ready, ended := make(chan string, 1), make(chan error, 1)
	go func() {
		ended <- serve.Run(ctx, serve.Config{DataDir: filepath.Join(dir, "data"), Listen: "127.0.0.1:0", SSHListen: "127.0.0.1:0", Engine: "sim:skerryline/base:1", SimTimes: map[string]time.Duration{}, Addresses: netip.MustParsePrefix("10.213.0.0/16"),
			Rules: demo.RulesBeside(git), Console: fstest.MapFS{"index.html": {Data: []byte("<title>the console</title>")}},
			Prepare: func(ctx context.Context, s *service.Service, r service.Rooms) error {
				return demo.FillPeople(ctx, s, r, git)
			}, Ready: func(a string) { ready <- a }})
	}()
	t.Cleanup(func() {
		cancel()
		if err := <-ended; err != nil {
			t.Errorf("the service ended with %v", err)
		}
	})
	in := func(address, name string) *client.Client {
		t.Helper()
		open, err := client.New(address, "")
		if err != nil {
			t.Fatal(err)
		}
		who, err := open.Self.SignIn(t.Context(), name, demo.Password)
		if err != nil {
			t.Fatal(err)
		}
		c, err := client.New(address, who.Token)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	var address string
	select {
	case address = <-ready:
	case err := <-ended:
		ended <- nil
		t.Fatal(err)
	}
	operator := in(address, "astrid")
	for name := range own {
		if _, err := operator.Repositories.Add(t.Context(), wire.NewRepository{URL: git + "/" + name + ".git"}); err != nil {
			t.Fatal(err)
		}
	}
	push = func(repository string, files map[string]string) {
		t.Helper()
		work := t.TempDir()
		repository, branch, _ := strings.Cut(repository, "@")
		if err := demo.Git(t.Context(), "clone", "--quiet", filepath.Join(bare, repository+".git"), work); err != nil {
			t.Fatal(err)
		}
		for p, text := range files {
			if err := os.WriteFile(filepath.Join(work, p), []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		for _, args := range [][]string{{"-C", work, "add", "--all"}, {"-C", work, "commit", "--quiet", "-m", "More"}, {"-C", work, "push", "--quiet", "--force", "origin", "HEAD:" + cmp.Or(branch, "main")}} {
			if err := demo.Git(t.Context(), args...); err != nil {
				t.Fatal(err)
			}
		}
	}
	return in(address, "ingrid"), push
}

func until(t *testing.T, c *client.Client, name string, is func(wire.Workspace) bool) wire.Workspace {
	t.Helper()
	var w wire.Workspace
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		var err error
		if w, err = c.Workspaces.Show(t.Context(), name); err == nil && is(w) {
			return w
		}
	}
	t.Fatalf("%s is %s (%s) with %v", name, w.Phase, w.Cause, w.Conditions)
	return w
}

func conditions(w wire.Workspace) (out string) {
	for _, x := range w.Conditions {
		out += x.Kind + ": " + x.Reason + "\n"
	}
	return out
}

const file = ".devcontainer/devcontainer.json"

// The life of a workspace, its services, its drift and its size, over a
// simulated yard: what needs no process is the same there.
func TestOverASimulatedYard(t *testing.T) {
	c, push := simulated(t, map[string]map[string]string{
		"lights": {file: `{"image": "skerryline/base:1", "remoteUser": "crew", "hostRequirements": {"cpus": 2}, "onCreateCommand": "echo begun", "waitFor": "onCreateCommand", "postCreateCommand": "echo over && exit 3", "postStartCommand": "echo never"}`},
		"roost": {file: `{"dockerComposeFile": "compose.yaml", "service": "work", "workspaceFolder": "/src", "remoteUser": "crew"}`,
			".devcontainer/compose.yaml": "services:\n  work: {image: 'skerryline/base:1', depends_on: {db: {condition: service_healthy}}}\n  db: {image: 'skerryline/base:1', command: ['sh', '-c', 'echo open; while :; do x; done'], healthcheck: {test: x}}\n"},
	})
	ctx := t.Context()
	if h, err := c.Health(ctx); err != nil || !h.Simulated {
		t.Errorf("it does not say that it is simulated: %+v, %v", h, err)
	}
	if _, err := c.Workspaces.Launch(ctx, wire.Launch{Repository: "lights"}); err != nil {
		t.Fatal(err)
	}
	w := until(t, c, "lights", func(w wire.Workspace) bool { return w.Phase == "ready" && len(w.Conditions) > 0 })
	if w.Size != "middle" || !strings.Contains(conditions(w), "set-up failed: set-up failed: postCreateCommand ended with exit code 3, its last line: over") {
		t.Errorf("it is of size %s with %s", w.Size, conditions(w))
	}
	sheets, err := c.Workspaces.Sheets(ctx, "lights")
	if err != nil || len(sheets) != 1 {
		t.Fatalf("there are %d sheets, %v", len(sheets), err)
	}
	sheet, err := c.Workspaces.Sheet(ctx, "lights", sheets[0].Number)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range sheet.Steps {
		if s.Title == "postStartCommand" {
			t.Error("after a failure another command is run")
		}
	}
	push("lights", map[string]string{file: `{"image": "skerryline/base:1", "remoteUser": "crew", "hostRequirements": {"cpus": 2}, "onCreateCommand": "echo begun anew"}`})
	if found, err := c.Repositories.CheckDefinition(ctx, "lights", "", ""); err != nil || len(found.Values) == 0 {
		t.Fatalf("its definition is %+v, %v", found, err)
	}
	push("lights@swell", map[string]string{file: `{"image": "skerryline/base:2", "remoteUser": "crew", "hostRequirements": {"cpus": 2}, "onCreateCommand": "echo begun anew"}`})
	if d, err := c.Repositories.CompareDefinitions(ctx, "lights", "", "swell", ""); err != nil || len(d.Changes) != 1 || d.Changes[0] != (wire.DefinitionChange{Key: "image", Old: "skerryline/base:1", New: "skerryline/base:2"}) || !strings.HasPrefix(d.Due, "a new image") {
		t.Errorf("the branches differ in %+v, %v", d, err)
	}
	push("lights@swell", map[string]string{file: `{`})
	if _, err := c.Repositories.CompareDefinitions(ctx, "lights", "", "swell", ""); err == nil || !strings.Contains(err.Error(), "the definition at swell is refused") {
		t.Errorf("a definition that is refused is compared: %v", err)
	}
	w = until(t, c, "lights", func(w wire.Workspace) bool { return strings.Contains(conditions(w), "rebuild due") })
	if !strings.Contains(conditions(w), "set_up.onCreateCommand: echo begun → echo begun anew") {
		t.Errorf("what changed is told as %s", conditions(w))
	}
	if _, err := c.Workspaces.Rebuild(ctx, "lights", wire.Rebuild{}); err != nil {
		t.Fatal(err)
	}
	until(t, c, "lights", func(w wire.Workspace) bool {
		return w.Phase == "ready" && !w.Rebuilding && conditions(w) == "" && w.Sheet == 2
	})

	if _, err := c.Workspaces.Launch(ctx, wire.Launch{Repository: "roost"}); err != nil {
		t.Fatal(err)
	}
	until(t, c, "roost", func(w wire.Workspace) bool { return w.Phase == "ready" && w.Services == 1 })
	all, err := c.Workspaces.Services(ctx, "roost")
	if err != nil || len(all) != 1 || all[0].State != "healthy" {
		t.Errorf("its services are %+v, %v", all, err)
	}
	var log strings.Builder
	if err := c.Workspaces.CopyServiceLog(ctx, "roost", "db", &log); err != nil || log.String() != "open\n" {
		t.Errorf("the service's log is %q, %v", log.String(), err)
	}
	for _, name := range []string{"lights", "roost"} {
		if _, err := c.Workspaces.Remove(ctx, name, false); err != nil {
			t.Fatal(err)
		}
	}
	for end := time.Now().Add(time.Minute); ; time.Sleep(20 * time.Millisecond) {
		left, err := c.Workspaces.List(ctx, client.ListQuery{})
		if err == nil && len(left) == 0 {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("there is still %s, %v", fmt.Sprint(left), err)
		}
	}
}
