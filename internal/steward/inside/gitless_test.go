package inside

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"yardbench/internal/steward"
)

// An image without git gets the same clone, by the same way, and what exists
// only in it is known.
func TestCloneWithoutGit(t *testing.T) {
	host := gitHost(t)
	p := newPair(t, func(id string, _ steward.Request, c *steward.Conn) { host.serve(id, c) })
	p.server.binary = filepath.Join(t.TempDir(), "steward")
	if out, err := exec.Command("go", "build", "-o", p.server.binary, "yardbench/cmd/steward").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	process := steward.Process{Folder: p.folder, GitHost: host.URL + "/", Env: map[string]string{"PATH": t.TempDir()}}
	clone := func(prepared bool) (string, steward.Exit) {
		return follow(t, p.ask(t, steward.Request{Kind: steward.CloneTo, Process: process, URL: host.URL + "/berth-planner.git", Branch: "main", Prepared: prepared}))
	}
	if out, x := clone(false); x.Code != 0 || x.Bytes == 0 || !strings.Contains(out, "has no git") {
		t.Fatalf("the clone ended with %+v: %s", x, out)
	}
	work := func() (w steward.WorkReport) {
		t.Helper()
		if err := p.ask(t, steward.Request{Kind: steward.Work, Process: process}).Receive(&w); err != nil {
			t.Fatal(err)
		}
		return w
	}
	git := func(args ...string) string { // as somebody else's git, to look at it and to make what is to be found
		t.Helper()
		out, err := exec.Command("git", append([]string{"-C", p.folder, "-c", "user.name=Ingrid", "-c", "user.email=ingrid@skerryline.example"}, args...)...).CombinedOutput()
		if err != nil {
			t.Fatalf("git %v: %v: %s", args, err, out)
		}
		return strings.TrimSpace(string(out))
	}
	if got := git("status", "--short", "--branch"); got != "## main...origin/main" {
		t.Errorf("git says of it: %s", got)
	}
	if got := git("remote", "get-url", "origin"); got != host.URL+"/berth-planner.git" {
		t.Errorf("its remote is %s", got)
	}
	if strings.Contains(git("config", "--list", "--local"), "ingrid") {
		t.Error("the credential is in the clone")
	}
	if w := work(); !w.Clean() {
		t.Errorf("a fresh clone is told as %+v", w)
	}
	if err := os.WriteFile(filepath.Join(p.folder, "new"), []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	git("checkout", "-q", "-b", "side")
	git("commit", "-q", "--allow-empty", "-m", "Only here")
	git("tag", "-a", "-m", "t", "mark")
	git("checkout", "-q", "main")
	if err := os.WriteFile(filepath.Join(p.folder, "README.md"), []byte("y"), 0o644); err != nil {
		t.Fatal(err)
	}
	git("stash", "-q")
	if w := work(); fmt.Sprint(w.Uncommitted) != "[new]" || len(w.Unpushed) != 1 || !strings.HasSuffix(w.Unpushed[0], " Only here") || w.Stashes != 1 || w.Problem != "" {
		t.Errorf("the work is told as %+v", w)
	}
	shown := p.ask(t, steward.Request{Kind: steward.Terminal, ID: "main", Process: steward.Process{Argv: []string{"/bin/cat"}, Env: process.Env, GitHost: process.GitHost}})
	if _, b, err := shown.ReceiveFrame(); err != nil || !strings.Contains(string(b), "to commit, add git to the image") {
		t.Errorf("a new terminal begins with %q, %v", b, err)
	}
	// Without the mark, and with what a prepared image left: the tree becomes the branch's.
	if err := os.Remove(filepath.Join(p.folder, ".git", "yardbench-seeded")); err != nil {
		t.Fatal(err)
	}
	g := gitless{URL: host.URL + "/berth-planner.git", Branch: "main", Folder: p.folder, Proxy: p.server.gitProxy, Through: host.URL + "/", Prepared: true}
	if err := os.WriteFile(filepath.Join(p.folder, "README.md"), []byte("z"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := g.clone(os.Stderr); err != nil {
		t.Fatal(err)
	}
	if got := git("status", "--short"); got != "?? new" {
		t.Errorf("a prepared tree is left as %s", got)
	}
	// A pull request is a branch of its own, known to be at the host.
	bare := filepath.Join(host.dir, "berth-planner.git")
	if out, err := exec.Command("git", "--git-dir", bare, "update-ref", "refs/pull/4/head", "main").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	g.Branch = "refs/pull/4/head"
	if err := g.clone(os.Stderr); err != nil {
		t.Fatal(err)
	}
	if got := git("status", "--short", "--branch"); got != "## pull/4/head\n?? new" {
		t.Errorf("a pull request is cloned as %s", got)
	}
	git("fetch", "-q", bare)
	g.Branch = "no-such-branch"
	if err := g.clone(os.Stderr); err == nil {
		t.Error("a branch that is not there is taken")
	}
	if err := os.RemoveAll(filepath.Join(p.folder, ".git")); err != nil {
		t.Fatal(err)
	}
	if w := work(); w.Problem == "" || w.Clean() {
		t.Errorf("a folder that is no clone is told as %+v", w)
	}
}
