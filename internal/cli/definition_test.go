package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	reference "github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/registry"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/remote"
)

// A folder is checked without a service: its exit code is what it says, its
// links lead nowhere, and a .env counts only where git keeps it.
func TestDefinitionCheckOfAFolder(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		if err := errors.Join(os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755), os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	git := func(args ...string) {
		t.Helper()
		if out, err := exec.Command("git", append([]string{"-C", dir}, args...)...).CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v\n%s", args, err, out)
		}
	}
	check := func(args ...string) (string, int) {
		t.Helper()
		a, out, errs := quiet(t)
		root := a.root()
		root.SetArgs(append([]string{"definition", "check", dir}, args...))
		code := a.report(root.Execute())
		return out.String() + errs.String(), code
	}
	says := func(want string, wantCode int, args ...string) {
		t.Helper()
		if got, code := check(args...); code != wantCode || !strings.Contains(got, want) {
			t.Errorf("%v: exit code %d, not %d, or it does not say %q:\n%s", args, code, wantCode, want, got)
		}
	}
	git("init", "-q")
	says("there is no definition", 0)
	write("outside.json", `{"image": "a:1", "remoteUser": "crew"}`)
	if err := os.Symlink(filepath.Join(dir, "outside.json"), filepath.Join(dir, ".devcontainer.json")); err != nil {
		t.Fatal(err)
	}
	says("there is no definition", 0)

	write(".devcontainer/devcontainer.json", `{"image": "a:1", "remoteUser": "crew"}`)
	write(".env", "A=1\nDESK_TOKEN=ebb-1234\n")
	says("nothing is wrong with the definition", 0, "--strict")
	git("add", ".env")
	says(".env:2:1: warning: DESK_TOKEN is named like a secret, and the file is committed\n    why  everybody", 0)
	says("1 warning\n", exitRefused, "--strict")
	says("ask for one", exitUsage, "--sarif", "--json")

	write(".devcontainer/devcontainer.json", "{\n  \"image\": \"a:1\",\n  \"imgae\": 1,\n  \"remoteUser\": \"crew\"\n}")
	text, code := check("--sarif")
	var log struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
			Results []struct {
				RuleID, Level string
				Locations     []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           *struct{ StartLine int }
					}
				}
			}
		}
	}
	if err := json.Unmarshal([]byte(text), &log); err != nil || code != 0 || log.Version != "2.1.0" || len(log.Runs) != 1 || len(log.Runs[0].Results) != 2 || len(log.Runs[0].Tool.Driver.Rules) != 2 {
		t.Fatalf("exit code %d, %v:\n%s", code, err, text)
	}
	r := log.Runs[0].Results[0]
	if p := r.Locations[0].PhysicalLocation; r.RuleID != "unknown-property" || r.Level != "warning" || p.ArtifactLocation.URI != ".devcontainer/devcontainer.json" || p.Region == nil || p.Region.StartLine != 3 {
		t.Errorf("the misspelt property is placed so: %+v", r)
	}
}

// A tree of 200 files is checked soon enough to be checked at every change.
// Definitions are explained and held against each other without a service; of
// several in one folder all are checked.
func TestDefinitionExplainAndDiff(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"one/.devcontainer/devcontainer.json":    `{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew", "onCreateCommand": "make"}`,
		"one/.devcontainer/Dockerfile":           "FROM a:1\n",
		"two/.devcontainer/devcontainer.json":    `{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew", "onCreateCommand": "make"}`,
		"two/.devcontainer/Dockerfile":           "FROM a:2\n",
		"many/.devcontainer/a/devcontainer.json": `{"image": "a:1", "remoteUser": "crew", "imgae": 1}`,
		"many/.devcontainer/b/devcontainer.json": `{"image": "a:latest", "remoteUser": "crew"}`,
		"bad/.devcontainer/devcontainer.json":    `{}`,
	} {
		if err := errors.Join(os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755), os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	t.Chdir(dir)
	for _, c := range []struct {
		args string
		code int
		says []string
	}{
		{"explain ./one", 0, []string{"build the image from .devcontainer/Dockerfile", "once", "make", "crew", "/workspaces/one", ".devcontainer/devcontainer.json:1:63"}},
		{"explain ./one --json", 0, []string{`"steps": [`, `"when": "for the image"`}},
		{"explain ./bad", exitRefused, []string{"neither image"}},
		{"diff ./one ./one", 0, []string{"they come to the same"}},
		{"diff ./one ./two", 0, []string{"build.content", "folder", "2 differences; due: a new image, and a rebuild"}},
		{"diff ./one ./two --json", 0, []string{`"due": "a new image`, `"key": "folder"`}},
		{"diff ./one ./bad", exitRefused, []string{"neither image"}},
		{"diff ./one", exitUsage, nil},
		{"check ./many", 0, []string{"imgae is no property", "is whatever is the latest", "2 warnings"}},
		{"check ./many --name b", 0, []string{"1 warning"}},
		{"show ./many", exitRefused, []string{"2 definitions, and none is the first"}},
	} {
		a, out, errs := quiet(t)
		root := a.root()
		root.SetArgs(append([]string{"definition"}, strings.Fields(c.args)...))
		code := a.report(root.Execute())
		for _, says := range c.says {
			if !strings.Contains(out.String()+errs.String(), says) {
				t.Errorf("%s does not say %q:\n%s%s", c.args, says, out, errs)
			}
		}
		if code != c.code {
			t.Errorf("%s: exit code %d, not %d", c.args, code, c.code)
		}
	}
}

// What can be mended is shown as a patch that git applies, and written when
// that is said.
func TestDefinitionFix(t *testing.T) {
	dir := t.TempDir()
	at := filepath.Join(dir, ".devcontainer", "devcontainer.json")
	if err := errors.Join(os.MkdirAll(filepath.Dir(at), 0o755), os.WriteFile(at, []byte("{\n  \"image\": \"a:1\", // ours\n  \"remoteUser\": \"crew\",\n  \"containerEnv\": {\"DESK_TOKEN\": \"ebb-1234\"}\n}\n"), 0o644)); err != nil {
		t.Fatal(err)
	}
	run := func(args ...string) (string, int) {
		a, out, errs := quiet(t)
		root := a.root()
		root.SetArgs(append([]string{"definition", "check", dir}, args...))
		code := a.report(root.Execute())
		return out.String() + errs.String(), code
	}
	before, _ := os.ReadFile(at)
	patch, code := run("--fix")
	if code != 0 || !strings.Contains(patch, "# DESK_TOKEN is asked for in secrets") || !strings.Contains(patch, "--- a/.devcontainer/devcontainer.json") {
		t.Fatalf("exit code %d:\n%s", code, patch)
	}
	if after, _ := os.ReadFile(at); string(after) != string(before) {
		t.Error("the file is written before anybody said so")
	}
	apply := exec.Command("git", "apply", "--check", "-")
	apply.Dir, apply.Stdin = dir, strings.NewReader(patch)
	if out, err := apply.CombinedOutput(); err != nil {
		t.Errorf("git does not take the patch: %v %s\n%s", err, out, patch)
	}
	if out, code := run("--fix", "--write"); code != 0 || !strings.Contains(out, "1 file written") {
		t.Errorf("exit code %d:\n%s", code, out)
	}
	if out, code := run("--strict"); code != 0 {
		t.Errorf("afterwards, exit code %d:\n%s", code, out)
	}
	if out, _ := run("--fix"); !strings.Contains(out, "nothing can be mended") {
		t.Errorf("a second time:\n%s", out)
	}
	if out, code := run("--write"); code != exitUsage {
		t.Errorf("exit code %d:\n%s", code, out)
	}
}

// A folder may be anybody's: no command that it names is run, a pipe holds
// nobody up, links are not followed, and Ctrl-C ends the look.
func TestAHostileFolder(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		if err := errors.Join(os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755), os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	ran := filepath.Join(dir, "ran")
	config := "[core]\n repositoryformatversion = 0\n bare = false\n worktree = .\n fsmonitor = \"touch " + ran + "; false\"\n"
	for _, laid := range []string{"bare", "own/.git"} { // as a bare repository, and as one's own
		write(laid+"/HEAD", "ref: refs/heads/main\n")
		write(laid+"/refs/keep", "")
		write(laid+"/objects/keep", "")
		write(laid+"/config", config)
	}
	for _, folder := range []string{"bare", "own"} {
		write(folder+"/.env", "X=1\n")
		write(folder+"/.devcontainer/devcontainer.json", `{"image": "a:1", "remoteUser": "crew"}`)
		found, err := checkFolder(t.Context(), filepath.Join(dir, folder), "", true)
		if err != nil || len(found.Findings) > 0 {
			t.Errorf("%s: %v, %v", folder, found.Findings, err)
		}
		if _, err := os.Stat(ran); err == nil {
			t.Fatalf("%s: a command that the folder names was run", folder)
		}
	}

	for _, pipe := range []string{".devcontainer", "compose.yaml", "Dockerfile", ".env"} {
		sub := filepath.Join(dir, "pipe"+pipe)
		if err := errors.Join(os.MkdirAll(sub, 0o755), syscall.Mkfifo(filepath.Join(sub, pipe), 0o644)); err != nil {
			t.Fatal(err)
		}
		if found, err := checkFolder(t.Context(), sub, "", true); err != nil || len(found.Findings) != 1 || found.Findings[0].Rule != "no-definition" {
			t.Errorf("a pipe %s: %v, %v", pipe, found.Findings, err)
		}
	}

	write("elsewhere/devcontainer.json", `{"image": "stolen:1", "remoteUser": "crew"}`)
	write("linked/x", "")
	if err := os.Symlink("../elsewhere", filepath.Join(dir, "linked", ".devcontainer")); err != nil {
		t.Fatal(err)
	}
	if found, err := checkFolder(t.Context(), filepath.Join(dir, "linked"), "", true); err != nil || strings.Contains(fmt.Sprint(found.Values), "stolen") {
		t.Errorf("a linked folder is followed: %v, %v", found.Values, err)
	}

	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := look(ctx, func() int { select {} }); !errors.Is(err, context.Canceled) {
		t.Errorf("a look that is ended says %v", err)
	}
}

// Which files git keeps is read without git: in the tree's root and in a folder
// of it, in a worktree, and not from rubbish.
func TestIndexOf(t *testing.T) {
	dir := t.TempDir()
	git := func(args ...string) {
		t.Helper()
		c := exec.Command("git", append([]string{"-C", filepath.Join(dir, "main"), "-c", "user.name=a", "-c", "user.email=a@b"}, args...)...)
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v\n%s", args, err, out)
		}
	}
	for _, name := range []string{"main/a", "main/sub/b", "main/left", "rubbish/.git/index", "pointer/.git"} {
		if err := errors.Join(os.MkdirAll(filepath.Join(dir, filepath.Dir(name)), 0o755), os.WriteFile(filepath.Join(dir, name), []byte("gitdir: ../nowhere"), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	git("init", "-q")
	if got := indexOf(filepath.Join(dir, "main")); got == nil || len(got) != 0 {
		t.Errorf("before anything is added there are %v", got)
	}
	git("add", "a", "sub/b")
	git("commit", "-qm", "x")
	git("worktree", "add", "-q", "../tree")
	for folder, want := range map[string]string{"main": "map[a:true sub/b:true]", "main/sub": "map[b:true]", "tree": "map[a:true sub/b:true]", "rubbish": "map[]", "pointer": "map[]", ".": "map[]"} {
		if got := fmt.Sprint(indexOf(filepath.Join(dir, folder))); got != want {
			t.Errorf("in %s there are %s, not %s", folder, got, want)
		}
	}
}

func BenchmarkCheckFolder(b *testing.B) {
	dir := b.TempDir()
	write := func(name, text string) {
		if err := errors.Join(os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755), os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644)); err != nil {
			b.Fatal(err)
		}
	}
	for i := range 190 {
		write(fmt.Sprintf("berths/quay-%d/berth-%d.py", i%10, i), "print('free')\n")
	}
	write(".devcontainer/devcontainer.json", `{"dockerComposeFile": "compose.yaml", "service": "work", "workspaceFolder": "/src", "remoteUser": "crew", "features": {"./lamp": {}}, "forwardPort": [1]}`)
	write(".devcontainer/compose.yaml", "services:\n  work: {build: ., volumes: ['..:/src'], depends_on: [db]}\n  db: {image: 'skerryline/base:1', env_file: [db.env], expose: [5432]}\n")
	write(".devcontainer/db.env", "A=1\n")
	write(".devcontainer/Dockerfile", "FROM skerryline/base:1\nRUN make\nEXPOSE 8000\n")
	write(".devcontainer/lamp/devcontainer-feature.json", `{"id": "lamp", "options": {"oil": {"default": true}}}`)
	write(".devcontainer/lamp/install.sh", "")
	for i := range 4 {
		write(fmt.Sprintf(".devcontainer/night-%d/devcontainer.json", i), `{"image": "a:1"}`)
	}
	for b.Loop() {
		found, err := checkFolder(b.Context(), dir, "", true)
		if err != nil || len(found.Findings) < 3 || count(found.Findings)["error"] > 0 {
			b.Fatalf("%v, %v", found.Findings, err)
		}
	}
	if each := b.Elapsed() / time.Duration(b.N); each > 50*time.Millisecond {
		b.Errorf("a check took %v, more than the 50 ms promised", each)
	}
}

// An image without a version is pinned to what its registry has now; one whose
// registry does not answer is told, and the rest is mended.
func TestDefinitionPin(t *testing.T) {
	server := httptest.NewServer(registry.New(registry.Logger(log.New(io.Discard, "", 0))))
	defer server.Close()
	host := strings.TrimPrefix(server.URL, "http://")
	ref, err := reference.ParseReference(host + "/tide:latest")
	if err == nil {
		err = remote.Write(ref, empty.Image)
	}
	digest, more := empty.Image.Digest()
	dir := t.TempDir()
	at := filepath.Join(dir, ".devcontainer.json")
	if err := errors.Join(err, more, os.WriteFile(filepath.Join(dir, "compose.yaml"), []byte("services:\n  app: {image: "+host+"/tide, volumes: ['.:/src']}\n  gone:\n    image: 127.0.0.1:1/gone\n"), 0o644),
		os.WriteFile(at, []byte(`{"dockerComposeFile": "compose.yaml", "service": "app", "workspaceFolder": "/src", "remoteUser": "crew"}`), 0o644)); err != nil {
		t.Fatal(err)
	}
	a, out, errs := quiet(t)
	root := a.root()
	root.SetArgs([]string{"definition", "check", dir, "--fix", "--pin"})
	if code := a.report(root.Execute()); code != 0 || !strings.Contains(out.String(), "+  app: {image: "+host+"/tide@"+digest.String()+", volumes") || !strings.Contains(errs.String(), "127.0.0.1:1/gone is not pinned: ") {
		t.Errorf("exit code %d:\n%s%s", code, out, errs)
	}
}
