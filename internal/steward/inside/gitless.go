package inside

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/config"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/plumbing/transport"
	_ "golang.org/x/crypto/x509roots/fallback" // small images know no authorities either

	"yardbench/internal/core/changes"
	"yardbench/internal/gitssh"
	"yardbench/internal/steward"
)

// Many small images have no git. There the steward clones with a reader of its
// own, as the user and by the same way through the service, and looks at the
// clone with it for what exists nowhere else. People still need git to commit:
// a new terminal says so.

// noGit is what is said where the image has none.
const noGit = "This image has no git. The clone is here and looked after; to commit, add git to the image (apt-get install git, apk add git) or put a feature for it into the definition."

// gitless is what the steward's own clone is asked for.
type gitless struct {
	URL, Branch, Folder string
	Proxy               string // the way through the service
	Through             string // the address of the host by that way, which signs in
	Prepared            bool   // the folder holds a clone already
}

// CloneWithoutGit clones as its one argument says, in JSON.
func CloneWithoutGit(args []string, out io.Writer) int {
	var g gitless
	if len(args) != 1 || json.Unmarshal([]byte(args[0]), &g) != nil {
		return 2
	}
	if err := g.clone(out); err != nil {
		fmt.Fprintln(out, err)
		return 1
	}
	return 0
}

func (g gitless) clone(out io.Writer) error {
	if _, over := gitssh.Parse(g.URL); over {
		return errors.New("a clone by SSH needs git in the image: add it (apt-get install git, apk add git), or put a feature for it into the definition")
	}
	proxy := transport.ProxyOptions{URL: g.Proxy}
	u, err := url.Parse(g.URL)
	if err != nil {
		return err
	}
	from := g.URL
	if by, err := url.Parse(g.Through); err == nil && by.Host == u.Host {
		from = by.Scheme + "://" + u.Host + u.RequestURI()
	}
	branch := plumbing.NewBranchReferenceName(g.Branch)
	if changes.Request(g.Branch) > 0 {
		branch = plumbing.ReferenceName(g.Branch)
	}
	if !g.Prepared {
		return g.cloneInto(g.Folder, from, branch, proxy, out)
	}
	// A prepared tree keeps what set-up made; what is tracked becomes the branch's.
	aside := filepath.Join(g.Folder, asideName)
	if err := g.cloneInto(aside, from, branch, proxy, out); err != nil {
		return err
	}
	old, err := git.PlainOpen(g.Folder)
	if err != nil {
		return err
	}
	tracked, err := old.Storer.Index()
	if err != nil {
		return err
	}
	for _, e := range tracked.Entries {
		if err := os.Remove(filepath.Join(g.Folder, filepath.FromSlash(e.Name))); err != nil && !errors.Is(err, os.ErrNotExist) && !errors.Is(err, syscall.ENOTDIR) && !errors.Is(err, syscall.ENOTEMPTY) {
			return err
		}
	}
	if err := os.RemoveAll(filepath.Join(g.Folder, ".git")); err != nil {
		return err
	}
	return errors.Join(moveOver(aside, g.Folder), os.RemoveAll(aside))
}

// cloneInto clones by the way through the service; the clone knows its host by
// the host's own address.
func (g gitless) cloneInto(folder, from string, branch plumbing.ReferenceName, proxy transport.ProxyOptions, out io.Writer) error {
	request := changes.Request(string(branch)) > 0
	how := git.CloneOptions{URL: from, ReferenceName: branch, ProxyOptions: proxy, Progress: out}
	if request { // it comes after what every clone has
		how.ReferenceName, how.NoCheckout = plumbing.HEAD, true
	}
	r, err := git.PlainClone(folder, false, &how)
	if err != nil {
		return err
	}
	spec, local := config.RefSpec(changes.RequestSpec(string(branch))), changes.LocalBranch(string(branch))
	if request {
		if err := r.Fetch(&git.FetchOptions{RefSpecs: []config.RefSpec{spec}, ProxyOptions: proxy, Progress: out}); err != nil && !errors.Is(err, git.NoErrAlreadyUpToDate) {
			return err
		}
		head, err := r.Reference(plumbing.NewRemoteReferenceName("origin", local), true)
		if err != nil {
			return err
		}
		tree, err := r.Worktree()
		if err != nil {
			return err
		}
		if err := tree.Checkout(&git.CheckoutOptions{Hash: head.Hash(), Branch: plumbing.NewBranchReferenceName(local), Create: true, Force: true}); err != nil {
			return err
		}
	}
	c, err := r.Config()
	if err != nil {
		return err
	}
	if request {
		c.Remotes["origin"].Fetch = append(c.Remotes["origin"].Fetch, spec)
	}
	c.Remotes["origin"].URLs = []string{g.URL}
	return r.SetConfig(c)
}

// moveOver moves what is in one folder into another on the same device, over
// what is there; folders that are there are gone into.
func moveOver(from, to string) error {
	entries, err := os.ReadDir(from)
	if err != nil {
		return err
	}
	for _, e := range entries {
		old, next := filepath.Join(from, e.Name()), filepath.Join(to, e.Name())
		if there, err := os.Lstat(next); err == nil {
			if e.IsDir() && there.IsDir() {
				if err := moveOver(old, next); err != nil {
					return err
				}
				continue
			}
			if err := os.RemoveAll(next); err != nil {
				return err
			}
		}
		if err := os.Rename(old, next); err != nil {
			return err
		}
	}
	return nil
}

// ReportWithoutGit prints what exists nowhere else in the clone that its one
// argument names, as a WorkReport in JSON.
func ReportWithoutGit(args []string, out io.Writer) int {
	if len(args) != 1 {
		return 2
	}
	var w steward.WorkReport
	if err := look(args[0], &w); err != nil {
		w.Problem = "the clone cannot be looked at: " + err.Error()
	}
	if json.NewEncoder(out).Encode(w) != nil {
		return 1
	}
	return 0
}

func look(folder string, w *steward.WorkReport) error {
	r, err := git.PlainOpen(folder)
	if err != nil {
		return err
	}
	tree, err := r.Worktree()
	if err != nil {
		return err
	}
	status, err := tree.Status()
	if err != nil {
		return err
	}
	for name, s := range status {
		if s.Worktree != git.Unmodified || s.Staging != git.Unmodified {
			if w.Uncommitted = append(w.Uncommitted, name); len(w.Uncommitted) == maxListed {
				break
			}
		}
	}
	// What the remote's branches reach is not only here.
	known := map[plumbing.Hash]bool{}
	var own []plumbing.Hash
	refs, err := r.References()
	if err != nil {
		return err
	}
	err = refs.ForEach(func(ref *plumbing.Reference) error {
		switch name := ref.Name(); {
		case ref.Type() != plumbing.HashReference:
		case name.IsRemote():
			return walk(r, ref.Hash(), known, nil)
		case name.IsBranch() || name.IsTag() || name == plumbing.HEAD:
			own = append(own, ref.Hash())
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, h := range own {
		if err := walk(r, h, known, func(c *object.Commit) {
			title, _, _ := strings.Cut(c.Message, "\n")
			w.Unpushed = append(w.Unpushed, c.Hash.String()[:7]+" "+title)
		}); err != nil {
			return err
		}
	}
	w.Unpushed = w.Unpushed[:min(len(w.Unpushed), maxListed)]
	if f, err := os.Open(filepath.Join(folder, ".git", "logs", "refs", "stash")); err == nil {
		defer f.Close()
		for lines := bufio.NewScanner(io.LimitReader(f, 1<<20)); lines.Scan(); {
			w.Stashes++
		}
	}
	return nil
}

// walk visits the commits from one on that are not seen yet.
func walk(r *git.Repository, from plumbing.Hash, seen map[plumbing.Hash]bool, visit func(*object.Commit)) error {
	if seen[from] {
		return nil
	}
	c, err := r.CommitObject(from)
	if errors.Is(err, plumbing.ErrObjectNotFound) { // of a tag with words of its own
		t, err := r.TagObject(from)
		if err != nil {
			return nil //nolint:nilerr // it names no commit
		}
		if c, err = t.Commit(); err != nil {
			return nil //nolint:nilerr // it names no commit
		}
	} else if err != nil {
		return err
	}
	return object.NewCommitPreorderIter(c, seen, nil).ForEach(func(c *object.Commit) error {
		seen[c.Hash] = true
		if visit != nil {
			visit(c)
		}
		return nil
	})
}
