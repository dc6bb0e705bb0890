package service

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"yardbench/internal/core/changes"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/plain"
	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/session"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Changes looks at what is changed in the clones of workspaces, and has git change
// it: git itself, in the workspace, as its user, with the hooks, filters and settings
// that they have.
type Changes struct {
	sessions *session.Sessions
	files    *Files
	views    *views
}

// Bounds of what git says and how long it takes.
const (
	statusMost = 4 << 20 // bytes
	diffMost   = 1 << 20
	saidMost   = 16 << 10 // what is kept of what it and its hooks say, the newest
	gitLook    = time.Minute
	gitHooks   = 5 * time.Minute // a commit, with what its hooks do
	gitRemote  = 10 * time.Minute
	filesMost  = 10_000
)

// clone is one of a workspace's, for somebody who may use it.
type clone struct {
	c       *Changes
	w       store.Workspace
	process steward.Process
	folder  string
}

// at finds the clones of a workspace, its own first.
func (c *Changes) at(ctx context.Context, a Actor, ref string, kind string) ([]clone, error) {
	w, _, err := c.views.findTo(ctx, a, ref, policy.UseWorkspace, "look at the changes in")
	if err != nil {
		return nil, err
	}
	if err := lifecycle.Permit(lifecycle.Use, w.Phase, w.Plan.Adopted != nil); err != nil {
		return nil, about(ref, a, fromRoom(err))
	}
	w.NextPlan = nil
	p, _, err := c.sessions.Of(ctx, w)
	if err != nil {
		return nil, err
	}
	// Nothing of it may wait for an answer that nobody can give.
	for k, v := range map[string]string{"GIT_TERMINAL_PROMPT": "0", "GIT_EDITOR": "true", "GIT_SEQUENCE_EDITOR": "true", "GIT_PAGER": "cat", "LC_ALL": "C.UTF-8"} {
		p.Env[k] = v
	}
	if err := c.files.note(ctx, a, w, kind); err != nil {
		return nil, err
	}
	def := w.Target().Definition
	out := []clone{{c, w, p, def.TreeFolder()}}
	for _, b := range w.Target().Beside {
		out = append(out, clone{c, w, p, b.Folder})
	}
	return out, nil
}

// one finds the clone in a folder; "" is the workspace's own.
func (c *Changes) one(ctx context.Context, a Actor, ref, folder, kind string) (clone, error) {
	all, err := c.at(ctx, a, ref, kind)
	if err != nil {
		return clone{}, err
	}
	if folder == "" {
		return all[0], nil
	}
	for _, k := range all {
		if k.folder == folder {
			return k, nil
		}
	}
	return clone{}, notFound("clone in", folder, "the list of changes has them")
}

// status looks how the clone stands.
func (k clone) status(ctx context.Context) (wire.Changes, error) {
	out := wire.Changes{Folder: k.folder, Files: []wire.ChangedFile{}}
	s, err := k.git(ctx, gitLook, statusMost, nil, true, "--no-optional-locks", "status", "--porcelain=v2", "--branch", "--show-stash", "--untracked-files=all", "-z")
	if err != nil {
		return out, err
	}
	if s.code != 0 {
		return out, s.refusal()
	}
	st, err := changes.ReadStatus(s.out)
	if err != nil {
		return out, fromRoom(outside.Refused(err.Error()))
	}
	line := func(v string) string { return plain.Line(v, 300) }
	out.Branch, out.Commit, out.Upstream, out.Ahead, out.Behind, out.Stashes = line(st.Branch), line(st.Commit), line(st.Upstream), max(0, st.Ahead), max(0, st.Behind), max(0, st.Stashes)
	out.More = s.cut || len(st.Files) > filesMost
	for _, f := range st.Files[:min(len(st.Files), filesMost)] {
		c := wire.ChangedFile{Staged: f.Staged, Unstaged: f.Unstaged, Conflict: f.Conflict}
		c.Path, c.Raw = text([]byte(f.Path))
		c.From, _ = text([]byte(f.From))
		out.Files = append(out.Files, c)
	}
	return out, nil
}

// List tells how each clone of a workspace stands.
func (c *Changes) List(ctx context.Context, a Actor, ref string) ([]wire.Changes, error) {
	all, err := c.at(ctx, a, ref, "changes-read")
	if err != nil {
		return nil, err
	}
	var out []wire.Changes
	for _, k := range all {
		is, err := k.status(ctx)
		var f *fault.Fault
		if errors.As(err, &f) && f.Class == fault.Conflict {
			is.Problem, err = f.Detail, nil // others may be looked at
		}
		if err != nil {
			return nil, err
		}
		out = append(out, is)
	}
	return out, nil
}

// difference asks git how a file differs.
func (k clone) difference(ctx context.Context, path string, staged bool) (changes.Difference, error) {
	args := []string{"--no-optional-locks", "--literal-pathspecs", "diff", "--no-color", "--no-ext-diff", "--no-textconv", "--src-prefix=a/", "--dst-prefix=b/", "--unified=3", "--no-renames"}
	if staged {
		args = append(args, "--cached")
	}
	s, err := k.git(ctx, gitLook, diffMost, nil, true, append(args, "--", path)...)
	if err != nil {
		return changes.Difference{}, err
	}
	if s.code == 0 && len(s.out) == 0 && !staged { // one that git does not know yet
		known, err := k.git(ctx, gitLook, 1000, nil, true, "--literal-pathspecs", "ls-files", "--", path)
		if err != nil {
			return changes.Difference{}, err
		}
		if len(known.out) == 0 {
			if s, err = k.git(ctx, gitLook, diffMost, nil, true, "diff", "--no-index", "--no-color", "--no-ext-diff", "--no-textconv", "--", "/dev/null", path); err != nil {
				return changes.Difference{}, err
			}
			if s.code == 1 { // they differ
				s.code = 0
			}
		}
	}
	if s.code != 0 {
		return changes.Difference{}, s.refusal()
	}
	d, err := changes.ReadDifference(s.out, s.cut)
	if err != nil {
		return d, fromRoom(outside.Refused(err.Error()))
	}
	return d, nil
}

// Difference tells how a file differs from what is staged, or what is staged of it
// from the newest commit.
func (c *Changes) Difference(ctx context.Context, a Actor, ref, folder, path string, staged bool) (wire.Difference, error) {
	k, err := c.one(ctx, a, ref, folder, "changes-read")
	if err != nil {
		return wire.Difference{}, err
	}
	c.files.keeper.Status.FilesTouched(k.w.ID)
	d, err := k.difference(ctx, path, staged)
	if err != nil {
		return wire.Difference{}, err
	}
	out := wire.Difference{Binary: d.Binary, Cut: d.Cut, Hunks: []wire.Hunk{}}
	for _, h := range d.Hunks {
		w := wire.Hunk{ID: h.ID, OldStart: h.OldStart, OldLines: h.OldLines, NewStart: h.NewStart, NewLines: h.NewLines, About: plain.Line(h.About, 200)}
		for _, l := range h.Lines {
			w.Lines = append(w.Lines, strings.ToValidUTF8(string(l), "\uFFFD"))
		}
		out.Hunks = append(out.Hunks, w)
	}
	return out, nil
}

// paths are those of a choice.
func pathsOf(in wire.Choice) (out []string, err error) {
	out = append(out, in.Paths...)
	for _, r := range in.Raw {
		out = append(out, string(r))
	}
	for _, p := range out {
		if p == "" || len(p) > steward.MaxFilePath || strings.ContainsRune(p, 0) {
			return nil, at(invalid("this is no path", ""), "/paths", "from the clone's folder")
		}
	}
	switch {
	case len(out) == 0:
		return nil, at(invalid("no file is named", ""), "/paths", "name some; . is all")
	case len(in.Hunks) > 0 && len(out) > 1:
		return nil, at(invalid("hunks are of one file", ""), "/paths", "name that one")
	}
	return out, nil
}

// Stage, Unstage and Discard are what is done with changes that are chosen.
const (
	Stage   = "stage"
	Unstage = "unstage"
	Discard = "discard"
)

// Choose stages changes, takes them out of what is staged, or discards them.
func (c *Changes) Choose(ctx context.Context, a Actor, ref, verb string, in wire.Choice) (wire.Changes, error) {
	paths, err := pathsOf(in)
	if err != nil {
		return wire.Changes{}, err
	}
	k, err := c.one(ctx, a, ref, in.Folder, "changes-made")
	if err != nil {
		return wire.Changes{}, err
	}
	if len(in.Hunks) > 0 {
		err = k.hunks(ctx, verb, paths[0], in.Hunks)
	} else {
		err = k.whole(ctx, verb, paths)
	}
	if err != nil {
		return wire.Changes{}, err
	}
	return k.status(ctx)
}

// hunks does it with some of a file's.
func (k clone) hunks(ctx context.Context, verb, path string, ids []string) error {
	d, err := k.difference(ctx, path, verb == Unstage)
	if err != nil {
		return err
	}
	patch, missing := d.Pick(ids)
	if missing != "" {
		return &fault.Fault{Class: fault.Stale, Kind: "changed", Detail: quote(path) + " was changed since you looked: there is no hunk " + quote(missing), Next: "look at the difference again"}
	}
	args := map[string][]string{Stage: {"apply", "--cached"}, Unstage: {"apply", "--cached", "--reverse"}, Discard: {"apply", "--reverse"}}[verb]
	return k.must(ctx, gitLook, bytes.NewReader(patch), append(args, "--whitespace=nowarn", "-")...)
}

// must runs git and takes its failing for an error.
func (k clone) must(ctx context.Context, limit time.Duration, input io.Reader, args ...string) error {
	s, err := k.git(ctx, limit, saidMost, input, false, args...)
	if err == nil && s.code != 0 {
		err = s.refusal()
	}
	return err
}

// whole does it with whole files.
func (k clone) whole(ctx context.Context, verb string, paths []string) error {
	fed := []string{"--pathspec-from-file=-", "--pathspec-file-nul"}
	list := func(paths []string) io.Reader { return strings.NewReader(strings.Join(paths, "\x00") + "\x00") }
	switch verb {
	case Stage:
		return k.must(ctx, gitHooks, list(paths), append([]string{"--literal-pathspecs", "add", "--all"}, fed...)...) // filters may take long
	case Unstage:
		return k.must(ctx, gitLook, list(paths), append([]string{"--literal-pathspecs", "reset", "--quiet"}, fed...)...)
	}
	// What git does not know goes; of the rest comes back what is staged.
	for len(paths) > 0 {
		some := paths[:min(len(paths), 200)]
		paths = paths[len(some):]
		known, err := k.git(ctx, gitLook, statusMost, nil, true, append([]string{"--literal-pathspecs", "ls-files", "-z", "--cached", "--"}, some...)...)
		if err != nil {
			return err
		}
		if len(known.out) > 0 {
			names := strings.Split(strings.TrimSuffix(string(known.out), "\x00"), "\x00")
			if known.cut {
				return invalid("there are too many files at once", "discard a part of them")
			}
			if err := k.must(ctx, gitHooks, list(names), append([]string{"--literal-pathspecs", "restore", "--worktree"}, fed...)...); err != nil {
				return err
			}
		}
		if err := k.must(ctx, gitLook, nil, append([]string{"--literal-pathspecs", "clean", "-d", "--force", "--quiet", "--"}, some...)...); err != nil {
			return err
		}
	}
	return nil
}

// Commit commits what is staged.
func (c *Changes) Commit(ctx context.Context, a Actor, ref string, in wire.NewCommit) (wire.Committed, error) {
	k, err := c.one(ctx, a, ref, in.Folder, "changes-made")
	if err != nil {
		return wire.Committed{}, err
	}
	args := []string{"commit", "--file=-"}
	if in.Amend {
		args = append(args, "--amend")
	} else {
		staged, err := k.git(ctx, gitLook, 1000, nil, true, "diff", "--cached", "--quiet")
		if err != nil {
			return wire.Committed{}, err
		}
		merging, err := k.git(ctx, gitLook, 1000, nil, true, "rev-parse", "--quiet", "--verify", "MERGE_HEAD")
		if err != nil {
			return wire.Committed{}, err
		}
		if staged.code == 0 && merging.code != 0 {
			return wire.Committed{}, conflict("no-change", "nothing is staged", "stage what is to be committed")
		}
	}
	if in.Sign {
		args = append(args, "--gpg-sign")
	}
	s, err := k.git(ctx, gitHooks, saidMost, strings.NewReader(in.Message), false, args...)
	if err != nil {
		return wire.Committed{}, err
	}
	if s.code != 0 {
		return wire.Committed{}, s.refusal()
	}
	if err := c.files.journal(ctx, a, k.w, "changes-committed"); err != nil {
		return wire.Committed{}, err
	}
	head, err := k.git(ctx, gitLook, 1000, nil, true, "rev-parse", "HEAD")
	if err != nil {
		return wire.Committed{}, err
	}
	return wire.Committed{Commit: plain.Line(strings.TrimSpace(string(head.out)), 80), Output: s.words()}, nil
}

// branchesMost bounds the branches that are listed.
const branchesMost = 1000

// Branches lists a clone's branches, with those of its remotes: what was worked on
// last is first.
func (c *Changes) Branches(ctx context.Context, a Actor, ref, folder string) ([]wire.CloneBranch, error) {
	k, err := c.one(ctx, a, ref, folder, "changes-read")
	if err != nil {
		return nil, err
	}
	s, err := k.git(ctx, gitLook, statusMost, nil, true, "for-each-ref", "--format="+changes.BranchFormat, "--sort=-committerdate", fmt.Sprintf("--count=%d", branchesMost), "refs/heads", "refs/remotes")
	if err != nil {
		return nil, err
	}
	if s.code != 0 {
		return nil, s.refusal()
	}
	var out []wire.CloneBranch
	for _, b := range changes.ReadBranches(s.out) {
		line := func(v string) string { return plain.Line(v, 300) }
		out = append(out, wire.CloneBranch{Name: line(b.Name), Remote: b.Remote, Current: b.Current, Upstream: line(b.Upstream), Ahead: b.Ahead, Behind: b.Behind, Commit: line(b.Commit), Subject: line(b.Subject), At: b.At})
	}
	return out, nil
}

// Switch has another branch be out.
func (c *Changes) Switch(ctx context.Context, a Actor, ref string, in wire.SwitchBranch) (wire.Changes, error) {
	if strings.HasPrefix(in.Name, "-") || strings.HasPrefix(in.From, "-") {
		return wire.Changes{}, at(invalid("this is no branch", ""), "/name", "it begins with no dash")
	}
	k, err := c.one(ctx, a, ref, in.Folder, "changes-made")
	if err != nil {
		return wire.Changes{}, err
	}
	args := []string{"switch", in.Name}
	if in.New {
		if args = []string{"switch", "--create", in.Name}; in.From != "" {
			args = append(args, in.From)
		}
	}
	if err := k.must(ctx, gitHooks, nil, args...); err != nil {
		return wire.Changes{}, err
	}
	return k.status(ctx)
}

// Fetch fetches from the clone's remote.
func (c *Changes) Fetch(ctx context.Context, a Actor, ref string, in wire.Exchange) (wire.Exchanged, error) {
	return c.exchange(ctx, a, ref, in, "changes-fetched", "fetch", "--prune")
}

// Push pushes the branch that is out, to a branch of its own name where it has no
// upstream yet.
func (c *Changes) Push(ctx context.Context, a Actor, ref string, in wire.Exchange) (wire.Exchanged, error) {
	args := []string{"push"}
	if in.Force {
		args = append(args, "--force-with-lease")
	}
	return c.exchange(ctx, a, ref, in, "changes-pushed", args...)
}

func (c *Changes) exchange(ctx context.Context, a Actor, ref string, in wire.Exchange, kind string, args ...string) (wire.Exchanged, error) {
	k, err := c.one(ctx, a, ref, in.Folder, "changes-read")
	if err != nil {
		return wire.Exchanged{}, err
	}
	if args[0] == "push" {
		now, err := k.status(ctx)
		if err != nil {
			return wire.Exchanged{}, err
		}
		if now.Branch == "" {
			return wire.Exchanged{}, conflict("git-refuses", "no branch is out that could be pushed", "switch to one, or make one")
		}
		if now.Upstream == "" {
			remote, err := k.git(ctx, gitLook, 1000, nil, true, "remote")
			if err != nil {
				return wire.Exchanged{}, err
			}
			first, _, _ := strings.Cut(string(remote.out), "\n")
			args = append(args, "--set-upstream", "--", cmp.Or(first, "origin"), "HEAD")
		}
	}
	s, err := k.git(ctx, gitRemote, saidMost, nil, false, args...)
	if err != nil {
		return wire.Exchanged{}, err
	}
	if s.code != 0 {
		return wire.Exchanged{}, s.refusal()
	}
	if err := c.files.journal(ctx, a, k.w, kind); err != nil {
		return wire.Exchanged{}, err
	}
	now, err := k.status(ctx)
	return wire.Exchanged{Output: s.words(), Changes: now}, err
}
