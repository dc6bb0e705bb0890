package test

import (
	"context"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"

	"yardbench/internal/browser"
	"yardbench/internal/demo"
	"yardbench/wire"
)

// A container that somebody started by hand is taken on from the command line:
// commands run in it, its port is reached, what was begun outlives a kill of
// the service; and when it is let go it goes on, with nothing of ours in it.
func TestAContainerOfOthers(t *testing.T) {
	w := newWorld(t)
	docker := w.docker()
	defer docker.Close()
	ctx := context.Background()
	name := "bell-" + w.installation()
	remove := func() {
		_, _ = docker.ContainerRemove(ctx, name, client.ContainerRemoveOptions{Force: true}) // of the test's own making
		_, _ = docker.ContainerRemove(ctx, name+"-ro", client.ContainerRemoveOptions{Force: true})
	}
	t.Cleanup(remove)
	run := func(name string, host *container.HostConfig) {
		t.Helper()
		_, err := docker.ContainerCreate(ctx, client.ContainerCreateOptions{Name: name, HostConfig: host,
			Config: &container.Config{Image: demo.BaseImage, WorkingDir: "/srv", Cmd: []string{"sh", "-c", "echo six bells > bells; exec python3 -m http.server 8400"}, StopSignal: "SIGKILL"}})
		if err == nil {
			_, err = docker.ContainerStart(ctx, name, client.ContainerStartOptions{})
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	run(name, &container.HostConfig{})
	w.must(w.as("astrid", "", "container", "list"), 0, name, "no bound", "to be given")
	w.must(w.as("astrid", "", "adopt", name, "--for", "ingrid"), 2, "--repository")
	w.must(w.as("astrid", "", "adopt", name, "--for", "ingrid", "--repository", "tide-board", "--name", "bell"), 4, "--size: one of small")
	w.must(w.as("astrid", "", "adopt", name, "--for", "ingrid", "--repository", "tide-board", "--name", "bell", "--size", "small"), 0, "Steward connects", "bell.ingrid is ready")
	w.must(w.as("astrid", "", "adopt", name, "--for", "mats", "--repository", "tide-board", "--size", "small"), 3, name)
	w.must(w.as("ingrid", "", "show", "bell"), 0, "adopted", "started by others", "counted under")
	w.must(w.as("ingrid", "brass", "secret", "put", "BELL_KEY", "--everywhere"), 0)
	out := w.must(w.as("ingrid", "", "run", "bell", "--", "sh", "-c", "cat bells; id -u; echo key=$BELL_KEY; git config --get credential.helper; (sleep 600 &) >/dev/null 2>&1; exit 3"), 3, "six bells\n0\nkey=\n")
	if strings.Contains(out, "brass") {
		t.Errorf("a stranger's container got a secret: %s", out)
	}

	c := w.client("ingrid")
	listens := func() bool {
		ports, err := c.Ports.List(ctx, "bell", false)
		return err == nil && len(ports) == 1 && ports[0].Number == 8400 && ports[0].Listening
	}
	for end := time.Now().Add(20 * time.Second); !listens(); time.Sleep(100 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("its port does not show")
		}
	}
	local := freeAddress(t)
	_, port, _ := net.SplitHostPort(local)
	forward := w.command("ingrid", "", "forward", "bell", "8400:"+port)
	if err := forward.Start(); err != nil {
		t.Fatal(err)
	}
	var body string
	for end := time.Now().Add(20 * time.Second); body != "six bells\n" && time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		if res, err := http.Get("http://" + local + "/bells"); err == nil {
			b, _ := io.ReadAll(res.Body)
			res.Body.Close()
			body = string(b)
		}
	}
	_ = forward.Process.Kill() // it would forward for ever
	_ = forward.Wait()
	if body != "six bells\n" {
		t.Errorf("through its port comes %q", body)
	}

	s, err := c.Workspaces.Open(ctx, "bell", wire.Run{Terminal: "watch", Columns: 80, Rows: 20})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Send('i', []byte("MARK=buoy-12\n")); err != nil {
		t.Fatal(err)
	}
	time.Sleep(500 * time.Millisecond)
	s.Close()
	w.kill()
	w.start()
	c = w.client("ingrid")
	w.until(c, "bell", 10*time.Second, func(ws wire.Workspace) bool { return ws.Phase == "ready" && len(ws.Conditions) == 1 })
	if s, err = c.Workspaces.Open(ctx, "bell", wire.Run{Terminal: "watch", Columns: 80, Rows: 20}); err != nil {
		t.Fatal(err)
	}
	if err := s.Send('i', []byte("echo \"<$MARK>\"\n")); err != nil {
		t.Fatal(err)
	}
	var screen strings.Builder
	for end := time.Now().Add(10 * time.Second); !strings.Contains(screen.String(), "<buoy-12>") && time.Now().Before(end); {
		_, p, err := s.Receive()
		if err != nil {
			t.Fatalf("the terminal did not outlive the service: %v; it shows %q", err, screen.String())
		}
		screen.Write(p)
	}
	s.Close()

	// It ends behind our back, and is started again by us.
	began := time.Now()
	if _, err := docker.ContainerKill(ctx, name, client.ContainerKillOptions{Signal: "KILL"}); err != nil {
		t.Fatal(err)
	}
	if ws := w.until(c, "bell", 10*time.Second, inPhase("stopped")); !strings.Contains(ws.Cause, "137") || time.Since(began) > 2*time.Second {
		t.Errorf("its end is seen after %s: %q", time.Since(began), ws.Cause)
	}
	// Others start it again, and it is seen to run.
	if _, err := docker.ContainerStart(ctx, name, client.ContainerStartOptions{}); err != nil {
		t.Fatal(err)
	}
	w.until(c, "bell", 10*time.Second, inPhase("ready"))
	if _, err := docker.ContainerKill(ctx, name, client.ContainerKillOptions{Signal: "KILL"}); err != nil {
		t.Fatal(err)
	}
	w.until(c, "bell", 10*time.Second, inPhase("stopped"))
	w.must(w.as("ingrid", "", "start", "bell"), 0, "is ready")
	// Started anew behind our back it is as it was: one of ours would be too.
	if _, err := docker.ContainerRestart(ctx, name, client.ContainerRestartOptions{}); err != nil {
		t.Fatal(err)
	}
	w.until(c, "bell", 20*time.Second, func(ws wire.Workspace) bool { return ws.Phase == "stopped" || len(ws.Conditions) == 1 })
	w.must(w.as("ingrid", "", "start", "bell"), 0)
	w.must(w.as("ingrid", "", "run", "bell", "--", "cat", "bells"), 0, "six bells")
	w.must(w.as("ingrid", "", "remove", "bell", "--yes", "--discard"), 4, "let go")
	w.must(w.as("astrid", "", "let-go", "bell.ingrid", "--yes"), 0, "its container goes on")
	if in, err := docker.ContainerInspect(ctx, name, client.ContainerInspectOptions{}); err != nil || !in.Container.State.Running {
		t.Errorf("let go, it is %+v, %v", in.Container.State, err)
	}
	if _, err := docker.ContainerStatPath(ctx, name, client.ContainerStatPathOptions{Path: "/.yardbench-" + w.installation()}); err == nil {
		t.Error("let go, the steward's folder is still in it")
	}
	w.must(w.as("astrid", "", "journal", "list", "--kind", "workspace.adopted"), 0, "bell")

	w.buildsApart(t, name)

	// The same in the console.
	astrid := w.page(t, "astrid")
	astrid.do("what could be taken on", chromedp.Navigate(w.address+"/fleet"), astrid.says("Fleet"), button("Take a container on"), astrid.says(name), astrid.says("any cores, any memory"), still(".ant-modal-container"), chromedp.Click(`//tr[contains(@class, "ant-table-row") and contains(., "`+name+`")]//input`), button("Take "+name+" on"), astrid.says("Say whose"))
	for field, choice := range map[string]string{"owner": "mats", "repository": "fare-desk"} {
		astrid.do("choose "+choice, chromedp.SendKeys(chromedp.CSS("#"+field), choice), seen(`.ant-select-item-option[title="`+choice+`"]`), browser.Enter())
	}
	astrid.do("choose a size", chromedp.Click(`//*[@id="size"]`), still(`.ant-select-dropdown:not(.ant-select-dropdown-hidden) .ant-select-item-option`), browser.Enter())
	astrid.do("it is taken on", chromedp.SendKeys(chromedp.CSS("#name"), "bell"), button("Take "+name+" on"), seen(`[data-phase="ready"]`), astrid.says("of mats"), astrid.says("started by others and taken on"), astrid.says("it is never put to rest"), seen(`[data-step="Steward connects"][data-outcome="done"]`))
	astrid.do("it is let go", button("Let go"), button("Let it go"), astrid.says("Nothing needs anybody"))

	// One in which nothing can be written is refused.
	run(name+"-ro", &container.HostConfig{ReadonlyRootfs: true, Tmpfs: map[string]string{"/srv": ""}})
	w.must(w.as("astrid", "", "adopt", name+"-ro", "--for", "ingrid", "--repository", "tide-board", "--name", "slate", "--size", "small"), 4, "read-only")
}

// buildsApart holds that a build reaches no container that was not made by us,
// and that all builds together have no more than their size. Nothing else may
// build meanwhile.
func (w *world) buildsApart(t *testing.T, stranger string) {
	t.Helper()
	in, err := w.docker().ContainerInspect(t.Context(), stranger, client.ContainerInspectOptions{})
	if err != nil {
		t.Fatal(err)
	}
	address := in.Container.NetworkSettings.Networks["bridge"].IPAddress.String()
	get := func(address string) string {
		return "python3 -c \"import urllib.request as u; print(u.urlopen('http://" + address + ":8400/bells', timeout=3).read().decode())\""
	}
	const base = "FROM skerryline/base:1\n"
	w.register("kelp-count", map[string]string{"README": "kelp"})
	build := func(branch, file string) {
		w.push("kelp-count", branch, map[string]string{".devcontainer/devcontainer.json": `{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew"}`, ".devcontainer/Dockerfile": file})
	}
	build("looks", base+"RUN cat /proc/self/cgroup > /groups; python3 -c 'import socket; socket.create_connection((\"127.0.0.1\", 8400), 3)' 2>/own; "+get(address)+" > /reached 2>&1 || true\n")
	w.must(w.as("ingrid", "", "launch", "kelp-count", "--branch", "looks", "--name", "looks"), 0, "is ready")
	seen := w.must(w.as("ingrid", "", "run", "looks", "--", "cat", "/groups", "/reached", "/own"), 0, "refused")
	if strings.Contains(seen, "six bells") || !strings.Contains(seen, "timed out") {
		t.Errorf("a build that looks for a stranger's container finds %s", seen)
	}
	w.must(w.as("ingrid", "", "remove", "looks", "--yes", "--discard"), 0)
	if !slices.Contains(bounds(), "--bound-builds") {
		return
	}
	if !strings.Contains(seen, "/yardbench/builds/") {
		t.Errorf("a build runs in the groups %s", seen)
	}
	if r := w.as("astrid", "", "doctor"); strings.Contains(r.out, "its builder cannot bound them") || !strings.Contains(r.out, "pushes") {
		t.Errorf("bounded builds are %s", r)
	}
	w.rules("starters: starters", "starters: starters\nbuilds: {size: small}")
	build("large", base+"RUN python3 -c 'x = bytearray(3 << 30)'\n")
	if r := w.as("ingrid", "", "launch", "kelp-count", "--branch", "large", "--name", "large"); r.code == 0 || !strings.Contains(r.String(), "137") && !strings.Contains(strings.ToLower(r.String()), "killed") {
		t.Errorf("a build of 3 GiB within 1 is %s", r)
	}
	w.must(w.as("ingrid", "", "remove", "large", "--yes"), 0)
}
