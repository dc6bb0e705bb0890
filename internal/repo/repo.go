// Package repo keeps a bare mirror of each registered repository, through git
// itself: it fetches, resolves a branch, reads files at a commit and packs a
// build context. It touches its own folder and the git host, nothing else.
//
// What a repository holds is hostile: nothing of it is run, no hook, no
// filter, no configuration; everything read is bounded.
package repo

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode"

	"yardbench/internal/core/changes"
	"yardbench/internal/gitssh"
)

// Bounds.
const (
	fetchTimeout = 2 * time.Minute
	readTimeout  = 20 * time.Second
	// MaxContextBytes bounds a build context.
	MaxContextBytes = 1 << 30
	// maxOutput bounds what git may say of a repository: the names of a million
	// files are less.
	maxOutput = 128 << 20
	// mostBehind bounds how many counts of commits are remembered.
	mostBehind = 4096
)

// maxPack bounds what one fetch may bring, in bytes; a test sets it lower.
var maxPack int64 = 8 << 30

// Credential signs in to a git host; the zero Credential does not.
type Credential struct {
	Username, Password string
	// SSH is what a host that is reached by SSH wants instead.
	SSH gitssh.With
	// Refused is what helps where the host refuses it; "" is to give a fresh one.
	Refused string
}

// Mirrors is a folder of bare mirrors.
type Mirrors struct {
	dir   string
	mu    sync.Mutex
	locks map[string]*sync.Mutex
	// waiting are the fetches that have not begun yet, by what they fetch.
	waiting map[string]*fetch
	fetches map[string]int
	looked  map[string]bool              // mirrors that were looked through for damage
	heads   map[string]map[string]string // commit by branch, by repository, as last fetched
	behind  map[[3]string]int            // by repository, commit and head, which say it for good
}

// NewMirrors keeps mirrors under dir.
func NewMirrors(dir string) *Mirrors {
	return &Mirrors{dir: dir, locks: map[string]*sync.Mutex{}, waiting: map[string]*fetch{}, fetches: map[string]int{}, looked: map[string]bool{}, heads: map[string]map[string]string{}, behind: map[[3]string]int{}}
}

// Problem is a failure that the person who asked can do something about.
type Problem struct{ What, Next string }

// SignIn is a Problem: the git host does not let whoever asks read. Next says what heals
// it without saying how.
type SignIn struct {
	Problem
	Next  string
	Lacks Lacks
	Host  string
}

// Lacks is what somebody is not let in for want of.
type Lacks string

// What that may be: a credential that the host takes; that they connect with it; a key
// at all; or their key, at the host.
const (
	LacksCredential Lacks = "credential"
	LacksConnection Lacks = "connection"
	LacksKey        Lacks = "key"
	LacksKeyThere   Lacks = "key there"
)

// Unwrap gives the problem.
func (s SignIn) Unwrap() error { return s.Problem }

func (p Problem) Error() string { return p.What + "; " + p.Next }

// CheckURL tells what is wrong with a repository's address, if anything.
func CheckURL(s string) error {
	bad := func(what string) error {
		return Problem{fmt.Sprintf("repository address %q %s", s, what), "give one like https://git.skerryline.example/tide-board.git"}
	}
	switch u, err := url.Parse(s); {
	case strings.ContainsFunc(s, func(r rune) bool { return unicode.IsSpace(r) || unicode.IsControl(r) }):
		return bad("has a blank in it")
	case OverSSH(s):
		if r, _ := gitssh.Parse(s); r.User == "" {
			return bad("does not say as whom, like git@ before the host")
		}
		return nil
	case err != nil:
		return bad("cannot be read")
	case u.Scheme != "http" && u.Scheme != "https":
		return bad("does not start with https://, http:// or ssh://")
	case u.User != nil:
		return bad("holds a user name or password; those are given apart")
	case u.Host == "" || strings.Trim(u.Path, "/") == "":
		return bad("names no host or no repository")
	case u.RawQuery != "" || u.Fragment != "":
		return bad("has a query or fragment")
	}
	return nil
}

// Host is the host of an address, with its port if one is given.
func Host(address string) string {
	if r, ok := gitssh.Parse(address); ok {
		return r.Host
	}
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return u.Host
}

// OverSSH tells whether a repository is reached by SSH.
func OverSSH(address string) bool {
	_, ok := gitssh.Parse(address)
	return ok
}

// DefaultBranch asks the git host which branch a repository starts with.
func (m *Mirrors) DefaultBranch(ctx context.Context, address string, c Credential) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, readTimeout)
	defer cancel()
	out, err := atHost(ctx, address, c, func(at string) (*exec.Cmd, error) {
		return command(ctx, "", &c, "ls-remote", "--symref", "--", at, "HEAD"), nil
	})
	if err != nil {
		return "", err
	}
	if _, rest, ok := strings.Cut(string(out), "ref: refs/heads/"); ok {
		if b, _, ok := strings.Cut(rest, "\t"); ok {
			return b, nil
		}
	}
	return "", Problem{"the repository at " + address + " has no branch yet", "push a first commit"}
}

// Fetch brings the mirror of a repository up to date. Those who ask while a
// fetch is under way share the next one, if they come with the same credential:
// each gets what was there after they asked, by what they may see.
func (m *Mirrors) Fetch(ctx context.Context, id, address string, c Credential) error {
	key := strings.Join([]string{id, address, c.Username, c.Password, c.SSH.Key, c.SSH.HostKeys}, "\x00")
	m.mu.Lock()
	f := m.waiting[key]
	if f != nil {
		m.mu.Unlock()
		select {
		case <-f.done:
			return f.err
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	f = &fetch{done: make(chan struct{})}
	m.waiting[key] = f
	m.mu.Unlock()
	l := m.lock(id)
	l.Lock()
	defer l.Unlock()
	m.mu.Lock()
	delete(m.waiting, key) // who comes from now on waits for another
	m.mu.Unlock()
	// Others wait for it: it does not end with the first one's patience.
	f.err = m.fetch(context.WithoutCancel(ctx), id, address, c)
	close(f.done)
	return f.err
}

// fetch is one fetch, and those who wait for it.
type fetch struct {
	done chan struct{}
	err  error
}

func (m *Mirrors) fetch(ctx context.Context, id, address string, c Credential) error {
	ctx, cancel := context.WithTimeout(ctx, fetchTimeout)
	defer cancel()
	if _, err := os.Stat(m.path(id)); err != nil {
		if err := m.anew(ctx, id, address, c); err != nil {
			return err
		}
	} else if err := m.tidied(ctx, id, address, c); err != nil {
		if !m.damaged(ctx, id) {
			return err
		}
		if err := m.anew(ctx, id, address, c); err != nil {
			return err
		}
	}
	out, err := m.read(ctx, id, "for-each-ref", "--format=%(refname:lstrip=2) %(objectname)", "refs/heads")
	if err != nil {
		return fmt.Errorf("list the branches: %w", err)
	}
	heads := map[string]string{}
	for _, l := range strings.Split(string(out), "\n") {
		if branch, commit, ok := strings.Cut(l, " "); ok {
			heads[branch] = commit
		}
	}
	m.mu.Lock()
	m.heads[id] = heads
	m.mu.Unlock()
	return nil
}

func fetchInto(ctx context.Context, dir, address string, c Credential) error {
	return fetchRefs(ctx, dir, address, c, "+refs/heads/*:refs/heads/*")
}

func fetchRefs(ctx context.Context, dir, address string, c Credential, refs ...string) error {
	_, err := atHost(ctx, address, c, func(at string) (*exec.Cmd, error) {
		cmd := command(ctx, dir, &c, append([]string{"fetch", "--quiet", "--prune", "--no-tags", "--no-auto-gc", "--", at}, refs...)...)
		// Git has no bound of its own for what a host sends: the system holds its
		// files to one (ulimit -f, in blocks of 512 bytes).
		cmd.Args = append([]string{"sh", "-c", fmt.Sprintf(`ulimit -f %d && exec git "$@"`, maxPack/512)}, cmd.Args...)
		sh, err := exec.LookPath("sh")
		cmd.Path = sh
		return cmd, err
	})
	return err
}

// tidyEach is after how many fetches of this life a mirror is packed anew: each
// push brings a pack, and git is told not to see to it while people wait.
const tidyEach = 50

func (m *Mirrors) tidied(ctx context.Context, id, address string, c Credential) error {
	if err := fetchInto(ctx, m.path(id), address, c); err != nil {
		return err
	}
	m.mu.Lock()
	m.fetches[id]++
	due := m.fetches[id]%tidyEach == 0
	m.mu.Unlock()
	if due { // does nothing where there is little to do (git-gc(1), --auto)
		if _, err := git(ctx, m.path(id), nil, "-c", "gc.autoDetach=false", "gc", "--auto", "--quiet"); err != nil {
			return fmt.Errorf("tidy the mirror: %w", err)
		}
	}
	return nil
}

// anew makes a mirror beside the old one, if there is one, and puts it in its
// place once it is whole.
func (m *Mirrors) anew(ctx context.Context, id, address string, c Credential) error {
	dir := m.path(id)
	next := dir + ".new"
	err := os.RemoveAll(next)
	if err == nil {
		_, err = git(ctx, "", nil, "init", "--quiet", "--bare", "--", next)
	}
	if err != nil {
		return fmt.Errorf("make the mirror: %w", err)
	}
	defer os.RemoveAll(next)
	if err := fetchInto(ctx, next, address, c); err != nil {
		return err
	}
	if err := os.RemoveAll(dir); err != nil {
		return fmt.Errorf("replace the mirror: %w", err)
	}
	return os.Rename(next, dir)
}

// damaged tells whether a mirror cannot be read as a whole, after a loss of
// power say. It is looked through once only: a host that is away fails often.
func (m *Mirrors) damaged(ctx context.Context, id string) bool {
	if _, err := m.read(ctx, id, "for-each-ref", "--count=1"); err != nil {
		return ctx.Err() == nil
	}
	m.mu.Lock()
	before := m.looked[id]
	m.looked[id] = true
	m.mu.Unlock()
	if before {
		return false
	}
	_, err := m.read(ctx, id, "fsck", "--connectivity-only", "--no-dangling", "--no-progress")
	return err != nil && ctx.Err() == nil
}

// Resolve is the commit at the head of a branch, as last fetched.
func (m *Mirrors) Resolve(ctx context.Context, id, branch string) (string, error) {
	unknown := Problem{fmt.Sprintf("there is no branch %q in the repository", branch), "look at its branches with: git ls-remote --heads"}
	if strings.ContainsFunc(branch, func(r rune) bool { return unicode.IsSpace(r) || unicode.IsControl(r) }) || strings.HasPrefix(branch, "-") {
		return "", unknown
	}
	if n := changes.Request(branch); n > 0 {
		out, err := m.read(ctx, id, "rev-parse", "--verify", "--quiet", "--end-of-options", branch+"^{commit}")
		if err != nil {
			return "", Problem{fmt.Sprintf("there is no pull request %d in the repository", n), "see those that are there at its git host"}
		}
		return strings.TrimSpace(string(out)), nil
	}
	m.mu.Lock()
	commit, known := m.heads[id][branch]
	m.mu.Unlock()
	if known {
		return commit, nil
	}
	out, err := m.read(ctx, id, "rev-parse", "--verify", "--quiet", "--end-of-options", "refs/heads/"+branch+"^{commit}")
	if err != nil {
		if names, lerr := m.read(ctx, id, "for-each-ref", "--count=12", "--format=%(refname:lstrip=2)", "refs/heads"); lerr == nil {
			unknown.Next = "its branches: " + strings.Join(strings.Fields(string(names)), ", ")
		}
		return "", unknown
	}
	return strings.TrimSpace(string(out)), nil
}

// Behind counts the commits by which head is ahead of commit; -1 when head
// does not come from it.
func (m *Mirrors) Behind(ctx context.Context, id, commit, head string) (int, error) {
	key := [3]string{id, commit, head}
	m.mu.Lock()
	n, known := m.behind[key]
	m.mu.Unlock()
	if known {
		return n, nil
	}
	if _, err := m.read(ctx, id, "merge-base", "--is-ancestor", "--end-of-options", commit, head); err != nil {
		return -1, nil // or the mirror does not know it any more: the same
	}
	out, err := m.read(ctx, id, "rev-list", "--count", "--end-of-options", commit+".."+head)
	if err != nil {
		return 0, err
	}
	if n, err = strconv.Atoi(strings.TrimSpace(string(out))); err != nil {
		return 0, err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.behind) >= mostBehind {
		clear(m.behind)
	}
	m.behind[key] = n
	return n, nil
}

var entry = regexp.MustCompile(`^(\d{6}) (\w+) ([0-9a-f]+) +(\d+|-)\t`)

// ReadFile reads a plain file at a commit, of at most max bytes; ok is false
// when there is none: a link or folder is none.
func (m *Mirrors) ReadFile(ctx context.Context, id, commit, path string, max int64) (content []byte, ok bool, err error) {
	out, err := m.read(ctx, id, "ls-tree", "-l", "--full-tree", commit, "--", ":(top,literal)"+path)
	if err != nil {
		return nil, false, err
	}
	e := entry.FindSubmatch(out)
	if e == nil || string(e[2]) != "blob" || string(e[1]) == "120000" {
		return nil, false, nil
	}
	if size, _ := strconv.ParseInt(string(e[4]), 10, 64); size > max {
		return nil, false, Problem{fmt.Sprintf("%s has %d bytes; at most %d are read", path, size, max), "make it smaller"}
	}
	content, err = m.read(ctx, id, "cat-file", "blob", string(e[3]))
	return content, err == nil, err
}

// MaxListed bounds the names of one folder.
const MaxListed = 2000

// List gives the names of the plain files and folders in a folder of the
// repository at a commit, folders with a closing slash and links with a closing
// @; "" is its root. A folder that is not there has none.
func (m *Mirrors) List(ctx context.Context, id, commit, folder string) (names []string, err error) {
	args := []string{"ls-tree", "-z", commit}
	if folder != "" {
		args[2] = commit + ":" + folder
		if kind, err := m.read(ctx, id, "cat-file", "-t", args[2]); err != nil || string(kind) != "tree\n" {
			return nil, nil
		}
	}
	out, err := m.read(ctx, id, args...)
	if err != nil {
		return nil, err
	}
	for _, l := range strings.Split(string(out), "\x00") {
		head, name, ok := strings.Cut(l, "\t")
		switch {
		case !ok || len(names) >= MaxListed:
		case strings.Contains(head, " tree "):
			names = append(names, name+"/")
		case strings.HasPrefix(head, "120000"):
			names = append(names, name+"@")
		case strings.HasPrefix(head, "100"):
			names = append(names, name)
		}
	}
	return names, nil
}

// File is a file of a repository.
type File struct {
	Path       string // within the folder that was asked for
	Executable bool
	Content    []byte
}

// Files reads the plain files beneath a folder at a commit: at most max, each
// of at most maxBytes.
func (m *Mirrors) Files(ctx context.Context, id, commit, folder string, max int, maxBytes int64) (out []File, err error) {
	list, err := m.read(ctx, id, "ls-tree", "-r", "-z", "-l", "--full-tree", commit+":"+folder)
	if err != nil {
		return nil, err
	}
	for _, l := range strings.Split(string(list), "\x00") {
		e := entry.FindStringSubmatch(l)
		if e == nil || e[2] != "blob" || e[1] == "120000" {
			continue
		}
		_, path, _ := strings.Cut(l, "\t")
		if size, _ := strconv.ParseInt(e[4], 10, 64); size > maxBytes {
			return nil, Problem{fmt.Sprintf("%s/%s has %d bytes; at most %d are read", folder, path, size, maxBytes), "make it smaller"}
		}
		if len(out) >= max {
			return nil, Problem{fmt.Sprintf("%s has more than %d files", folder, max), "make it smaller"}
		}
		content, err := m.read(ctx, id, "cat-file", "blob", e[3])
		if err != nil {
			return nil, err
		}
		out = append(out, File{Path: path, Executable: e[1] == "100755", Content: content})
	}
	return out, nil
}

// Tree is the id of a folder's tree at a commit; "." is the whole.
func (m *Mirrors) Tree(ctx context.Context, id, commit, folder string) (string, error) {
	spec := commit + "^{tree}"
	if folder != "." {
		spec = commit + ":" + folder
	}
	out, err := m.read(ctx, id, "rev-parse", "--verify", "--quiet", "--end-of-options", spec)
	if err != nil {
		return "", Problem{fmt.Sprintf("there is no folder %q in the repository at %.10s", folder, commit), "correct the build context in the definition"}
	}
	return strings.TrimSpace(string(out)), nil
}

// Drop forgets the mirror of a repository that is registered no more.
func (m *Mirrors) Drop(id string) error {
	l := m.lock(id)
	l.Lock()
	defer l.Unlock()
	m.mu.Lock()
	delete(m.heads, id)
	delete(m.looked, id)
	delete(m.fetches, id)
	for k := range m.behind {
		if k[0] == id {
			delete(m.behind, k)
		}
	}
	m.mu.Unlock()
	return os.RemoveAll(m.path(id))
}

func (m *Mirrors) path(id string) string { return filepath.Join(m.dir, id+".git") }

func (m *Mirrors) lock(id string) *sync.Mutex {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.locks[id] == nil {
		m.locks[id] = &sync.Mutex{}
	}
	return m.locks[id]
}

func (m *Mirrors) read(ctx context.Context, id string, args ...string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, readTimeout)
	defer cancel()
	return git(ctx, m.path(id), nil, args...)
}
