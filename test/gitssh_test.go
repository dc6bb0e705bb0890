package test

import (
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yardbench/internal/demo"
	"yardbench/wire"
)

// shellGit opens the git host's door by SSH, and says where it is and by which key it
// is known.
func (w *world) shellGit() (host, key string) {
	w.t.Helper()
	door, err := demo.NewGitHostSSH(w.bare, func() string { return w.address })
	if err != nil {
		w.t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		w.t.Fatal(err)
	}
	w.t.Cleanup(func() { l.Close() })
	go door.Serve(l)
	_, port, err := net.SplitHostPort(l.Addr().String())
	if err != nil {
		w.t.Fatal(err)
	}
	return "git.skerryline.localhost:" + port, door.Key
}

// atHost puts a public key at the git host, as its people do.
func (w *world) atHost(who, path, key string) {
	w.t.Helper()
	req, err := http.NewRequestWithContext(w.t.Context(), http.MethodPut, strings.Replace(w.git, "git.skerryline.localhost", "127.0.0.1", 1)+path, strings.NewReader(key))
	if err != nil {
		w.t.Fatal(err)
	}
	req.SetBasicAuth(who, demo.GitToken(who))
	res, err := http.DefaultClient.Do(req)
	if err != nil || res.Body.Close() != nil || res.StatusCode != http.StatusNoContent {
		w.t.Fatalf("%s's key is not taken at the git host: %v %v", who, res, err)
	}
}

// A repository is reached by SSH: by keys that the host is known by, signed in with
// keys that come into no workspace, which sign commits there too.
func TestGitBySSH(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	c := w.client("ingrid")
	host, hostKey := w.shellGit()
	address := "ssh://git@" + host + "/route-notes.git"
	add := func(code int, words ...string) {
		t.Helper()
		w.must(w.as("astrid", "", "repository", "add", address, "--name", "notes", "--team", "Timetable"), code, words...)
	}
	w.must(w.as("astrid", "", "repository", "add", "ssh://"+host+"/route-notes.git", "--name", "notes"), 4, "does not say as whom")
	add(4, "the key of the git host "+host+" is not known", "SHA256:", `git: {host_keys: {"`+host+`": ["`+hostKey+`"]}}`)
	other, err := demo.NewGitHostSSH(t.TempDir(), func() string { return "" })
	if err != nil {
		t.Fatal(err)
	}
	known := func(key string) string {
		return "\ngit:\n  host_keys:\n    \"" + host + "\": [\"" + key + "\"]\nstarters:"
	}
	w.rules("\nstarters:", known(other.Key))
	add(4, "shows a key that it is not known by", "somebody stands between")
	w.rules("\nstarters:", known(hostKey))
	add(4, "lets in by a key alone, and you have none", "yardbench me git-key --new")
	keys := map[string]string{}
	for _, who := range []string{"astrid", "ingrid", "mats"} {
		keys[who] = strings.Split(w.must(w.as(who, "", "me", "git-key", "--new"), 0, "ssh-ed25519 ", who+" by Yard Bench"), "\n")[0]
	}
	add(4, "refuses your key", "put the public half of it there")
	w.atHost("astrid", "/keys", keys["astrid"])
	w.atHost("ingrid", "/keys", keys["ingrid"])
	add(0, "notes")

	// Whoever the git host does not know launches nothing of it.
	w.must(w.as("mats", "", "launch", "notes", "--name", "no"), 4, "refuses your key")
	w.must(w.as("ingrid", "", "launch", "notes", "--name", "quay"), 0)
	run := func(code int, script string, words ...string) string {
		t.Helper()
		return w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", script), code, words...)
	}
	run(0, "git remote get-url origin && git fetch && git log -1 --format=%s", address, "First light")
	run(0, "echo ebb > ebb.md && git add ebb.md && git commit -q -S -m 'Ebb' && git push 2>&1", "main -> main")
	// The signature is Ingrid's, and the image has no program of SSH's.
	signers := filepath.Join(t.TempDir(), "signers")
	if err := os.WriteFile(signers, []byte("ingrid@skerryline.example "+keys["ingrid"]+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	verified := func(commit string) string {
		out, _ := exec.Command("git", "--git-dir", filepath.Join(w.bare, "route-notes.git"), "-c", "gpg.ssh.allowedSignersFile="+signers, "verify-commit", commit).CombinedOutput()
		return string(out)
	}
	if got := verified("main"); !strings.Contains(got, `Good "git" signature for ingrid@skerryline.example`) {
		t.Fatalf("the commit is %s", got)
	}
	w.must(w.as("ingrid", "", "me", "git-key", "--sign-commits"), 0, "signed always")
	run(0, "echo flood > flood.md && git add flood.md && git commit -q -m 'Flood' && git tag -m tide tide && git push 2>&1", "main -> main")
	if got := verified("main"); !strings.Contains(got, "Good") {
		t.Fatalf("the second commit is %s", got)
	}
	// A further repository there is a submodule; a repository by HTTPS reaches it, too.
	run(0, "git submodule add -q ssh://git@"+host+"/deck-log.git deck && ls deck && git submodule update --init", "README.md")
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "tide"), 0)
	w.must(w.as("ingrid", "", "run", "tide", "--", "sh", "-c", "git clone -q ssh://git@"+host+"/deck-log.git /tmp/deck && ls /tmp/deck"), 0, "README.md")
	// Another host is not signed in to; nor is a path that is none of git's.
	run(128, "git ls-remote ssh://git@elsewhere.skerryline.example/x.git 2>&1", "know no key of this git host")
	run(128, "git ls-remote ssh://git@"+host+"/nothing.git 2>&1", "repository not found")
	run(0, "grep -rls 'PRIVATE KEY' / --exclude-dir=proc --exclude-dir=sys --exclude-dir=usr --exclude-dir=.yardbench; env | grep -c 'PRIVATE' ; test -S $SSH_AUTH_SOCK && stat -c '%U %a' $SSH_AUTH_SOCK", "0\nroot 600")

	// What a stranger wrote is given no key for further hosts, nor an agent.
	w.must(w.as("ingrid", "", "launch", "tide-board", "--branch", demo.AskedRef, "--name", "asked"), 0)
	w.must(w.as("ingrid", "", "run", "asked", "--", "sh", "-c", "git ls-remote ssh://git@"+host+"/deck-log.git 2>&1"), 128, "nothing of its owner's own")
	w.must(w.as("ingrid", "", "run", "asked", "--", "sh", "-c", "test -z \"$SSH_AUTH_SOCK\" && git fetch"), 0)
	w.must(w.as("ingrid", "", "remove", "asked", "--yes"), 0)

	// Where pushes are confirmed, so is the key: nothing signs until the owner allows it.
	w.rules("\nstarters:", "\nworkspaces: {push: confirmed}"+known(hostKey))
	signed := make(chan result, 1)
	go func() {
		signed <- w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "git commit -q --allow-empty -m 'Slack water' && git push 2>&1")
	}()
	w.until(c, "quay", 30*time.Second, func(ws wire.Workspace) bool {
		return strings.Contains(condition(ws, "push waits"), "wants to sign with your key")
	})
	w.must(w.as("ingrid", "", "allow-push", "quay"), 0)
	w.must(<-signed, 0, "main -> main")
	w.rules("\nstarters:", known(hostKey))

	// What was taken away signs nothing and nobody in, in what runs too.
	w.must(w.as("ingrid", "", "me", "git-key", "--remove", "--yes"), 0, "is gone")
	run(128, "git fetch 2>&1", "you have none", "yardbench me git-key --new")
	w.must(w.as("ingrid", "", "journal", "list"), 0, "git-key.removed")

	// A prebuild reads by the repository's own key, which pushes nothing.
	w.must(w.as("astrid", "", "prebuild", "put", "notes"), 0)
	w.must(w.as("astrid", "", "prebuild", "run", "notes"), 4, "cannot read it", "repository deploy-key notes")
	deploy := w.must(w.as("astrid", "", "repository", "deploy-key", "notes"), 0, "ssh-ed25519", "notes by Yard Bench")
	w.atHost("astrid", "/route-notes.git/keys", deploy)
	w.must(w.as("astrid", "", "prebuild", "run", "notes"), 0)
	w.must(w.as("mats", "", "launch", "notes", "--name", "ahead"), 4, "refuses your key")
	w.must(w.as("astrid", "", "launch", "notes", "--name", "ahead"), 0, "served by prepared image")
	w.must(w.as("astrid", "hush", "repository", "credential", "notes", "--username", "x"), 4, "is reached by SSH")
	w.must(w.as("astrid", "", "repository", "deploy-key", "tide-board"), 4, "is reached by http")
}
