package test

import (
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/moby/moby/client"

	"yardbench/internal/demo"
)

// A workspace with services has its size once: its containers are bounded all
// together, and the disks that they name beside it come to one more.
func TestServicesShareTheSize(t *testing.T) {
	t.Parallel()
	if !slices.Contains(bounds(), "--bound-together") {
		t.Skip("needs control groups that can be written, as root")
	}
	w := newWorld(t)
	w.rules("small:  {cores: 1, memory: 1 GiB, disk: 10 GiB}", "small:  {cores: 1, memory: 256 MiB, disk: 256 MiB}")
	w.register("two-holds", map[string]string{
		".devcontainer/devcontainer.json": `{"dockerComposeFile": "compose.yaml", "service": "app", "workspaceFolder": "/w"}`,
		".devcontainer/compose.yaml": `
services:
  app: {image: 'skerryline/base:1', command: sleep infinity, volumes: ['..:/w', 'one:/one']}
  hold: {image: 'skerryline/base:1', volumes: ['two:/two'], command: ['python3', '-c', 'x = bytearray(150 << 20); print("full", flush=True); import time; time.sleep(10**6)']}
volumes: {one: {}, two: {}}
`})
	w.must(w.as("ingrid", "", "launch", "two-holds", "--name", "holds"), 0, "is ready")
	ws, err := w.client("ingrid").Workspaces.Show(t.Context(), "holds")
	if err != nil {
		t.Fatal(err)
	}
	group := "yb-" + w.installation() + "-" + ws.ID
	list, err := w.docker().ContainerList(t.Context(), client.ContainerListOptions{Filters: client.Filters{}.Add("label", "yardbench.workspace="+ws.ID)})
	if err != nil || len(list.Items) != 2 {
		t.Fatalf("its containers are %+v, %v", list, err)
	}
	dir, limit := filepath.Join("/sys/fs/cgroup/memory/yardbench", group), "memory.limit_in_bytes"
	if _, err := os.Stat("/sys/fs/cgroup/cgroup.controllers"); err == nil {
		dir, limit = filepath.Join("/sys/fs/cgroup/yardbench", group), "memory.max"
	}
	if b, err := os.ReadFile(filepath.Join(dir, limit)); strings.TrimSpace(string(b)) != "268435456" {
		t.Errorf("together they may use %s, %v", b, err)
	}
	for _, c := range list.Items {
		if _, err := os.Stat(filepath.Join(dir, c.ID)); err != nil {
			t.Errorf("%v is bounded elsewhere: %v", c.Names, err)
		}
	}
	// What fits beside the service does; what does not ends one of the two.
	w.must(w.as("ingrid", "", "run", "holds", "--", "python3", "-c", "x = bytearray(40 << 20); print(len(x))"), 0, "41943040")
	r := w.as("ingrid", "", "run", "holds", "--", "python3", "-c", "x = bytearray(150 << 20); print(len(x))")
	if up := w.as("ingrid", "", "service", "list", "holds"); r.code == 0 && strings.Contains(up.out, "running") {
		t.Errorf("both have 150 MiB of 256:\n%s", up)
	}
	if bounded() {
		size := strings.Fields(w.must(w.as("ingrid", "", "run", "holds", "--", "df", "--output=size", "-BM", "/one"), 0))[1]
		if n, err := strconv.Atoi(strings.TrimSuffix(size, "M")); err != nil || n < 90 || n > 128 {
			t.Errorf("one of two named disks has %s, %v", size, err)
		}
	}
	w.must(w.as("ingrid", "", "remove", "holds", "--yes", "--discard"), 0)
	if _, err := os.Stat(dir); err == nil {
		t.Error("its group is left")
	}
}

// Where the house rules close workspaces nothing in them reaches outside or has
// more rights than who starts it; the way to the git host stays.
func TestClosedWorkspaces(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "before"), 0, "is ready")
	w.rules("starters: starters", "starters: starters\nworkspaces: {network: closed, gain_rights: no}")
	w.must(w.as("ingrid", "", "launch", "gull-count", "--name", "closed"), 0, "is ready")
	const look = "awk '/NoNewPrivs/ {print \"gains\", $2}' /proc/self/status"
	w.must(w.as("ingrid", "", "run", "closed", "--", "sh", "-c", look+"; git ls-remote origin"), 0, "gains 1", "refs/heads/main")
	// The engine says which networks lead nowhere: there is nothing outside that
	// could be reached here.
	internal := func(name string) bool {
		ws, err := w.client("ingrid").Workspaces.Show(t.Context(), name)
		if err != nil {
			t.Fatal(err)
		}
		n, err := w.docker().NetworkInspect(t.Context(), "yb-"+w.installation()+"-"+ws.ID, client.NetworkInspectOptions{})
		if err != nil {
			t.Fatal(err)
		}
		return n.Network.Internal
	}
	if !internal("closed") || internal("before") {
		t.Errorf("the closed one leads nowhere: %v, the one before: %v", internal("closed"), internal("before"))
	}
	w.must(w.as("ingrid", "", "service", "list", "closed"), 0, "healthy")
	w.must(w.as("ingrid", "", "run", "before", "--", "sh", "-c", look), 0, "gains 0")
	w.must(w.as("ingrid", "", "remove", "closed", "--yes", "--discard"), 0)
}

// Where the house rules have pushes confirmed, git in a workspace is told so and
// its owner sees it; once they allow it outside of the workspace it goes.
func TestPushesAreConfirmed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.rules("starters: starters", "starters: starters\nworkspaces: {push: confirmed}")
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	const push = "git checkout -q -B tried && git commit -q --allow-empty -m 'one more' && git fetch origin && git push origin tried"
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", push), 128, "house rules have that confirmed", "yardbench allow-push quay")
	if r := w.must(w.as("ingrid", "", "run", "quay", "--", "git", "ls-remote", "origin"), 0); strings.Contains(r, "tried") {
		t.Errorf("it was pushed all the same: %s", r)
	}
	w.must(w.as("ingrid", "", "show", "quay"), 0, "push waits")
	w.must(w.as("astrid", "", "allow-push", "quay.ingrid"), 4, "does not allow you")
	p := w.page(t, "ingrid")
	p.do("the owner sees that something waits, and allows it", chromedp.Navigate(w.address+"/workspaces/quay.ingrid"), p.says("wanted to push"), button("Allow for 15 min"), p.says("may push until"))
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", push), 0, "tried")
	w.must(w.as("ingrid", "", "allow-push", "quay", "--end"), 0, "may push")
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", push), 128, "confirmed")
	w.must(w.as("ingrid", "", "allow-push", "quay"), 0, "may push until")
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", push), 0)
	w.must(w.as("astrid", "", "journal", "list", "--kind", "workspace.pushes-allowed"), 0, "quay")
	w.must(w.as("ingrid", "", "stop", "quay"), 0)
	w.must(w.as("ingrid", "", "allow-push", "quay"), 4, "start it first")
	w.must(w.as("ingrid", "", "remove", "quay", "--yes", "--discard"), 0)
}

// A pull request is launched by its ref: its clone is a branch that knows its host's, what
// runs there gets no secrets, and each push waits for its owner. Without commits of its
// own it is removed like any other.
func TestPullRequest(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "hush-1", "secret", "put", "TIDE_KEY", "--everywhere"), 0)
	w.must(w.as("ingrid", "", "branch", "list", "tide-board"), 0, demo.AskedRef, "Say when the spring timetable begins")
	w.must(w.as("ingrid", "", "launch", "tide-board", "--branch", "refs/pull/99/head"), 4, "no pull request 99")
	// By itself, and by nothing that is given more than it.
	w.must(w.as("ingrid", "", "launch", "fare-desk", "--beside", "tide-board@"+demo.AskedRef), 4, "pull request 3 is no branch")
	w.must(w.as("astrid", "", "prebuild", "put", "tide-board", "--branch", demo.AskedRef), 4, "pull request 3 is no branch")
	w.must(w.as("astrid", "", "repository", "change", "tide-board", "--branch", demo.AskedRef), 4, "pull request 3 is no branch")
	w.must(w.as("ingrid", "", "launch", "tide-board", "--branch", demo.AskedRef, "--dry-run"), 0, demo.AskedRef)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--branch", demo.AskedRef, "--name", "asked"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "asked", "--", "sh", "-c", "git status --short --branch; cat SPRING.md; echo key: $TIDE_KEY."), 0, "## pull/3/head...origin/pull/3/head", "High water comes", "key: .")
	w.must(w.as("ingrid", "", "run", "asked", "--", "yardbench-secret", "TIDE_KEY"), 1, "none of its owner's own") // nor by asking
	w.must(w.as("ingrid", "", "run", "asked", "--", "git", "pull", "--quiet"), 0)
	const push = "git checkout -q -B answered && git commit -q --allow-empty -m 'an answer' && git push origin answered"
	w.must(w.as("ingrid", "", "run", "asked", "--", "sh", "-c", push), 128, "pull request", "allow-push asked")
	w.must(w.as("ingrid", "", "remove", "asked", "--yes"), 4, "an answer")
	w.must(w.as("ingrid", "", "allow-push", "asked"), 0, "may push until")
	w.must(w.as("ingrid", "", "run", "asked", "--", "sh", "-c", push), 0, "answered")
	w.must(w.as("ingrid", "", "stop", "asked"), 0)
	w.must(w.as("ingrid", "", "rebuild", "asked"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "asked", "--", "git", "log", "--oneline", "origin/pull/3/head"), 0, "spring timetable")
	// The house rules may open a level, and open that alone.
	w.must(w.as("astrid", "pinned-up", "secret", "put", "NOTICE", "--of-house", "--everywhere"), 0)
	w.must(w.as("ingrid", "", "run", "asked", "--", "sh", "-c", "echo notice: $NOTICE, key: $TIDE_KEY."), 0, "notice: , key: .")
	w.rules("\nsign_in:", "\nsecrets: {pull_requests: [house]}\nsign_in:")
	w.must(w.as("ingrid", "", "run", "asked", "--", "sh", "-c", "echo notice: $NOTICE, key: $TIDE_KEY."), 0, "notice: pinned-up, key: .")
	w.must(w.as("ingrid", "", "remove", "asked", "--yes"), 0)

	// From an image that was prepared for the branch it goes into.
	w.must(w.as("astrid", "", "prebuild", "put", "tide-board", "--keep", "1"), 0)
	w.must(w.as("astrid", "", "prebuild", "run", "tide-board"), 0)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--branch", demo.AskedRef, "--name", "ahead"), 0, "is ready")
	w.must(w.as("ingrid", "", "show", "ahead"), 0, "image 1")
	w.must(w.as("ingrid", "", "run", "ahead", "--", "sh", "-c", "git status --short --branch; cat SPRING.md; git pull --quiet; echo key: $TIDE_KEY."), 0, "## pull/3/head...origin/pull/3/head", "High water comes", "key: .")
	w.must(w.as("ingrid", "", "remove", "ahead", "--yes"), 0)
}
