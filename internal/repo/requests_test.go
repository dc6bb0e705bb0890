package repo

import (
	"errors"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Pull requests come with the newest of them, once; those that are gone at the host are
// forgotten, and one is fetched by itself where somebody launches from it.
func TestRequests(t *testing.T) {
	dir := t.TempDir()
	far, work := filepath.Join(dir, "x.git"), t.TempDir()
	run(t, "sh", "-c", "git init -q -b main "+work+" && cd "+work+" && git -c user.name=A -c user.email=a@skerryline.example commit -q --allow-empty -m first && git clone -q --bare . "+far+" && git --git-dir "+far+" update-server-info")
	server := httptest.NewServer(http.FileServer(http.Dir(dir)))
	t.Cleanup(server.Close)
	address, commit := server.URL+"/x.git", strings.TrimSpace(run(t, "git", "--git-dir", far, "rev-parse", "main"))
	m, ctx := NewMirrors(filepath.Join(t.TempDir(), "mirrors")), t.Context()
	if err := m.Fetch(ctx, "r1", address, Credential{}); err != nil {
		t.Fatal(err)
	}
	at := func(args ...string) { run(t, "git", append([]string{"--git-dir", far}, args...)...) }
	for _, ref := range []string{"refs/pull/3/head", "refs/pull/12/head", "refs/merge-requests/7/head", "refs/pull/3/merge", "refs/pull/x/head"} {
		at("update-ref", ref, commit)
	}
	at("update-server-info")
	names := func() string {
		t.Helper()
		all, err := m.Branches(ctx, "r1", 100)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, b := range all {
			if strings.HasPrefix(b.Name, "refs/") {
				out = append(out, b.Name)
			}
		}
		return strings.Join(out, " ")
	}
	if got := names(); got != "" {
		t.Errorf("before they are asked for there are %s", got)
	}
	var p Problem
	if err := m.FetchRequest(ctx, "r1", address, Credential{}, "refs/pull/99/head"); !errors.As(err, &p) || !strings.Contains(p.What, "pull request 99") {
		t.Errorf("one that is not there is answered %v", err)
	}
	for _, bad := range []string{"refs/heads/main", "refs/pull/3/merge", "+refs/pull/3/head:refs/heads/main", "--upload-pack=x"} {
		if err := m.FetchRequest(ctx, "r1", address, Credential{}, bad); !errors.As(err, &p) {
			t.Errorf("%q is answered %v", bad, err)
		}
	}
	if err := m.FetchRequest(ctx, "r1", address, Credential{}, "refs/pull/3/head"); err != nil || names() != "refs/pull/3/head" {
		t.Errorf("one by itself: %s, %v", names(), err)
	}
	if got, err := m.Resolve(ctx, "r1", "refs/pull/3/head"); err != nil || got != commit {
		t.Errorf("it is at %s, %v", got, err)
	}
	if _, err := m.Resolve(ctx, "r1", "refs/pull/12/head"); !errors.As(err, &p) {
		t.Errorf("one that was not fetched is at %v", err)
	}
	for range 2 {
		if err := m.FetchRequests(ctx, "r1", address, Credential{}, 2); err != nil {
			t.Fatal(err)
		}
	}
	if got := names(); strings.Count(got, "refs/") != 3 || !strings.Contains(got, "refs/pull/12/head") || !strings.Contains(got, "refs/merge-requests/7/head") {
		t.Errorf("the newest two and the one that was there are %s", got)
	}
	at("update-ref", "-d", "refs/pull/3/head")
	at("update-server-info")
	if err := m.FetchRequests(ctx, "r1", address, Credential{}, 9); err != nil || strings.Contains(names(), "pull/3/") {
		t.Errorf("one that is gone is still among %s, %v", names(), err)
	}
	if err := m.Fetch(ctx, "r1", address, Credential{}); err != nil || names() == "" {
		t.Errorf("a fetch of the branches leaves %q, %v", names(), err)
	}
	if err := m.Drop("r1"); err != nil {
		t.Error(err)
	}
	if _, err := m.Resolve(ctx, "r1", "main"); err == nil {
		t.Error("what is dropped is known still")
	}
}

func run(t *testing.T, name string, args ...string) string {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s %v: %v: %s", name, args, err, out)
	}
	return string(out)
}
