// Package demo is the world of Skerry Line, an invented island-ferry company:
// its people, its repositories, and small stand-ins for what lies outside the
// product. Nothing else of the product depends on it.
package demo

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"embed"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/http/cgi"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"yardbench/wire"
)

//go:embed all:repositories
var sources embed.FS

// Repositories are those the git host starts with.
var Repositories = []string{"tide-board", "berth-planner", "fare-desk", "deck-log", "chart-press", "route-notes", "gull-count", "signal-mast", "starters"}

// HookPath is where the git host's stand-in takes what webhooks tell.
const HookPath = "/hook"

// GitToken is what a person signs in to the git host with.
func GitToken(person string) string { return "skerry-git-" + person }

// Reader is who a repository's prebuilds read it as.
func Reader(repository string) string { return "reader-of-" + repository }

// RunGitHost runs the git-host stand-in until ctx ends: smart HTTP by git's
// own http-backend (git-http-backend(1)), for Skerry Line's people only. Its
// repositories are made on the first start. ready gets its address.
// It tells the service at notify, if that is set, of pushes. sshListen is where its
// door by SSH is.
func RunGitHost(ctx context.Context, dir, listen, sshListen, notify string, ready func(address string)) error {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	for _, name := range Repositories {
		if err := MakeRepository(ctx, dir, name, sources); err != nil {
			return fmt.Errorf("make repository %s: %w", name, err)
		}
	}
	handler, err := GitHost(dir, func() string { return notify })
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return fmt.Errorf("cannot listen on %s: %w; stop what uses it, or give another --listen", listen, err)
	}
	over, err := NewGitHostSSH(dir, func() string { return notify })
	if err != nil {
		return err
	}
	shells, err := net.Listen("tcp", sshListen)
	if err != nil {
		return fmt.Errorf("cannot listen on %s: %w; stop what uses it, or give another --ssh-listen", sshListen, err)
	}
	defer shells.Close()
	go over.Serve(shells)
	_, sshPort, err := net.SplitHostPort(shells.Addr().String())
	if err != nil {
		return err
	}
	both := http.NewServeMux()
	both.Handle("/", handler)
	// By which key it is known, and where, as hosts publish it.
	both.HandleFunc("GET /host-key", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, sshPort, over.Key) })
	server := &http.Server{Handler: both, ReadHeaderTimeout: 10 * time.Second}
	stop := context.AfterFunc(ctx, func() { server.Close() })
	defer stop()
	ready("http://" + l.Addr().String())
	if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

var repositoryPath = regexp.MustCompile(`^/([a-z0-9-]+)\.git/(info/refs|git-upload-pack|git-receive-pack)$`)

// GitHostServer serves bare repositories, and Skerry Line's registry.
type GitHostServer struct {
	http.Handler
	lender *lender
	// May, if set, tells whom it lets read a repository; else it is everybody there.
	May func(person, repository string) bool
}

// Lives sets how long what it lends from now on counts.
func (g *GitHostServer) Lives(d time.Duration) {
	g.lender.mu.Lock()
	defer g.lender.mu.Unlock()
	g.lender.lives = d
}

// Lends tells how much of somebody's counts there that it has lent.
func (g *GitHostServer) Lends(person string) (n int) {
	g.lender.mu.Lock()
	defer g.lender.mu.Unlock()
	for _, all := range []map[string]loan{g.lender.Lent, g.lender.Refresh} {
		for _, t := range all {
			if t.Person == person && (t.Until.IsZero() || time.Now().Before(t.Until)) {
				n++
			}
		}
	}
	return n
}

// Forget has it know nothing any more of what it lent somebody.
func (g *GitHostServer) Forget(person string) {
	g.lender.mu.Lock()
	defer g.lender.mu.Unlock()
	g.lender.forget(person)
}

// lentFor is how long what the git host lends counts.
const lentFor = 10 * time.Minute

// GitHost serves the bare repositories under dir. After a push it tells the service
// whose address notify gives, if any.
func GitHost(dir string, notify func() string) (*GitHostServer, error) {
	out, err := exec.Command("git", "--exec-path").Output()
	if err != nil {
		return nil, fmt.Errorf("find git: %w", err)
	}
	backend := filepath.Join(strings.TrimSpace(string(out)), "git-http-backend")
	if _, err := os.Stat(backend); err != nil {
		return nil, fmt.Errorf("this git has no http-backend: %w", err)
	}
	images, err := Registry(context.Background())
	if err != nil {
		return nil, err
	}
	g := &GitHostServer{lender: newLender(dir, lentFor)}
	reads := func(person, repository string) bool { return g.May == nil || g.May(person, repository) }
	g.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/oauth/") {
			g.lender.ServeHTTP(w, r)
			return
		}
		if r.URL.Path == "/api/repositories" {
			g.list(w, r, dir, reads)
			return
		}
		if r.URL.Path == HookPath {
			_, _ = io.Copy(io.Discard, io.LimitReader(r.Body, 1<<20)) // it is enough to have been told
			w.WriteHeader(http.StatusNoContent)
			return
		}
		if strings.HasPrefix(r.URL.Path, "/v2/") {
			images.ServeHTTP(w, r)
			return
		}
		name, password, _ := r.BasicAuth()
		known := false
		for _, p := range People {
			known = known || (p.Name == name && subtle.ConstantTimeCompare([]byte(password), []byte(GitToken(name))) == 1)
		}
		if lent := g.lender.who(password); lent != "" {
			name, known = lent, true
		}
		m := repositoryPath.FindStringSubmatch(r.URL.Path)
		// A repository's reader reads that one, and no more.
		if m != nil && name == Reader(m[1]) && m[2] != "git-receive-pack" && r.URL.Query().Get("service") != "git-receive-pack" {
			known = subtle.ConstantTimeCompare([]byte(password), []byte(GitToken(name))) == 1
		}
		if !known {
			w.Header().Set("WWW-Authenticate", `Basic realm="Skerry Line git"`)
			http.Error(w, "sign in", http.StatusUnauthorized)
			return
		}
		if keysPath.MatchString(r.URL.Path) {
			putKey(dir, w, r, name)
			return
		}
		if m == nil {
			http.NotFound(w, r)
			return
		}
		if _, err := os.Stat(filepath.Join(dir, m[1]+".git")); err != nil || name != Reader(m[1]) && !reads(name, m[1]) {
			http.Error(w, "repository not found", http.StatusNotFound)
			return
		}
		h := &cgi.Handler{Path: backend, Dir: dir, Stderr: os.Stderr,
			Env: []string{"GIT_PROJECT_ROOT=" + dir, "GIT_HTTP_EXPORT_ALL=1", "REMOTE_USER=" + name, "GIT_CONFIG_NOSYSTEM=1", "HOME=/nonexistent",
				"GIT_CONFIG_COUNT=1", "GIT_CONFIG_KEY_0=safe.directory", "GIT_CONFIG_VALUE_0=*"}}
		if m[2] != "git-receive-pack" {
			h.ServeHTTP(w, r)
			return
		}
		bare := filepath.Join(dir, m[1]+".git")
		before := heads(r.Context(), bare)
		h.ServeHTTP(w, r)
		for branch, commit := range heads(r.Context(), bare) {
			if to := notify(); to != "" && before[branch] != commit {
				go tell(to, wire.Push{Repository: "http://" + r.Host + "/" + m[1] + ".git", Branch: branch, Commit: commit}, PushKey(m[1]))
			}
		}
	})
	return g, nil
}

// list answers what somebody may read, three at a time.
func (g *GitHostServer) list(w http.ResponseWriter, r *http.Request, dir string, reads func(person, repository string) bool) {
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	who := g.lender.who(token)
	all, err := filepath.Glob(filepath.Join(dir, "*.git"))
	if who == "" || err != nil {
		http.Error(w, "sign in", http.StatusUnauthorized)
		return
	}
	out := []map[string]string{}
	for _, bare := range all {
		if name := strings.TrimSuffix(filepath.Base(bare), ".git"); reads(who, name) {
			out = append(out, map[string]string{"name": name, "clone_url": "http://" + r.Host + "/" + name + ".git"})
		}
	}
	const part = 3
	from, _ := strconv.Atoi(r.URL.Query().Get("from")) // else from the first
	from = max(0, min(from, len(out)))
	if from+part < len(out) {
		w.Header().Set("Link", fmt.Sprintf(`</api/repositories?from=%d>; rel="next"`, from+part))
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(out[from:min(len(out), from+part)]) // whoever asks may have gone
}

// heads gives the commit of each branch.
func heads(ctx context.Context, bare string) map[string]string {
	out := map[string]string{}
	list, err := exec.CommandContext(ctx, "git", "--git-dir="+bare, "for-each-ref", "--format=%(refname:lstrip=2) %(objectname)", "refs/heads").Output()
	if err != nil {
		slog.Error("list the branches", "repository", bare, "error", err)
	}
	for _, l := range strings.Split(string(list), "\n") {
		if branch, commit, ok := strings.Cut(l, " "); ok {
			out[branch] = commit
		}
	}
	return out
}

// tell sends the news of a push, signed, three times at most. docs/pushes.md
// describes its form.
func tell(service string, news wire.Push, key string) {
	body, err := json.Marshal(news)
	if err != nil {
		return
	}
	for try := range 3 {
		time.Sleep(time.Duration(try) * 2 * time.Second)
		at := time.Now().UTC().Format(time.RFC3339)
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, service+"/api/v1/pushes", bytes.NewReader(body))
		if err == nil {
			req.Header.Set("Content-Type", "application/json")
			req.Header.Set("Push-Time", at)
			req.Header.Set("Push-Mark", PushMark(key, at, body))
			var res *http.Response
			if res, err = http.DefaultClient.Do(req); err == nil {
				res.Body.Close()
				if res.StatusCode < 300 {
					cancel()
					return
				}
				err = errors.New(res.Status)
			}
		}
		cancel()
		slog.Warn("tell of a push", "repository", news.Repository, "error", err)
	}
}

// PushMark is the git host's own making of the mark: HMAC-SHA256 of the time,
// a line feed and the body, in hexadecimal.
func PushMark(key, at string, body []byte) string {
	m := hmac.New(sha256.New, []byte(key))
	fmt.Fprintf(m, "%s\n%s", at, body)
	return hex.EncodeToString(m.Sum(nil))
}

// MakeRepository makes a bare repository with what stands under
// repositories/NAME of files as its first commit, unless it is there already.
// The same content makes the same commit.
func MakeRepository(ctx context.Context, dir, name string, files fs.FS) error {
	bare := filepath.Join(dir, name+".git")
	if _, err := os.Stat(bare); err == nil {
		return nil
	}
	work, err := os.MkdirTemp("", "skerry-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	tree, err := fs.Sub(files, "repositories/"+name)
	if err != nil {
		return err
	}
	if err := os.CopyFS(work, tree); err != nil {
		return err
	}
	// An embedded file has lost the right to be run.
	bins, _ := filepath.Glob(filepath.Join(work, "bin", "*")) // the pattern is sound
	for _, b := range bins {
		if err := os.Chmod(b, 0o755); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	in := func(all ...[]string) error {
		for _, args := range all {
			if err := Git(ctx, args...); err != nil {
				return err
			}
		}
		return nil
	}
	if err := in([]string{"init", "--quiet", "--initial-branch=main", work}, []string{"-C", work, "add", "--all"}, []string{"-C", work, "commit", "--quiet", "-m", "First light"}); err != nil {
		return err
	}
	if name == broken {
		if err := in([]string{"-C", work, "checkout", "--quiet", "-b", brokenBranch}); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(work, ".devcontainer", "devcontainer.json"), []byte(brokenDefinition), 0o644); err != nil {
			return err
		}
		if err := in([]string{"-C", work, "commit", "--quiet", "-am", "Press the north chart"}, []string{"-C", work, "checkout", "--quiet", "main"}); err != nil {
			return err
		}
	}
	if name == asked {
		if err := in([]string{"-C", work, "checkout", "--quiet", "-b", "asked"}); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(work, "SPRING.md"), []byte("# The spring timetable\n\nHigh water comes an hour later: the board is to say so.\n"), 0o644); err != nil {
			return err
		}
		if err := in([]string{"-C", work, "add", "--all"}, []string{"-C", work, "commit", "--quiet", "-m", "Say when the spring timetable begins"}, []string{"-C", work, "checkout", "--quiet", "main"}); err != nil {
			return err
		}
	}
	if err := in([]string{"clone", "--quiet", "--bare", work, bare + ".new"}, []string{"-C", bare + ".new", "config", "http.receivepack", "true"}); err != nil {
		return err
	}
	if name == asked {
		if err := in([]string{"-C", bare + ".new", "update-ref", AskedRef, "asked"}, []string{"-C", bare + ".new", "branch", "--quiet", "-D", "asked"}); err != nil {
			return err
		}
	}
	return os.Rename(bare+".new", bare)
}

// A pull request that waits for somebody to look at it.
const (
	asked    = "tide-board"
	AskedRef = "refs/pull/3/head"
)

// A branch whose set-up fails, for whoever launches from it: something that needs
// somebody.
const (
	broken           = "chart-press"
	brokenBranch     = "north"
	brokenDefinition = `{
	"name": "Chart press, the north chart",
	"image": "skerryline/base:1",
	"remoteUser": "crew",
	"onCreateCommand": "echo looking for the north chart; echo charts/north.svg is missing; exit 3"
}
`
)

// Git runs git as one of Skerry Line's people, at a fixed time.
func Git(ctx context.Context, args ...string) error {
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Env = append(os.Environ(), "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null",
		"GIT_AUTHOR_NAME=Astrid Holm", "GIT_AUTHOR_EMAIL=astrid@skerryline.example", "GIT_AUTHOR_DATE=2026-03-02T08:00:00+01:00",
		"GIT_COMMITTER_NAME=Astrid Holm", "GIT_COMMITTER_EMAIL=astrid@skerryline.example", "GIT_COMMITTER_DATE=2026-03-02T08:00:00+01:00")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("git %s: %w: %s", args[0], err, strings.TrimSpace(string(out)))
	}
	return nil
}
