package inside

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"yardbench/internal/core/changes"
	"yardbench/internal/steward"
)

// trees is what a steward does with the workspace's clones.
type trees struct{ *server }

// asideName is the folder, within the clone's, in which it is made.
const asideName = ".yardbench-clone"

// maxListed bounds each list of a work report.
const maxListed = 100

// clone puts a full clone into the workspace folder, as the user, and writes
// its completion mark last. A folder without the mark is emptied and cloned
// again: the service asks for a clone only before the first use.
func (s trees) clone(r steward.Request, log io.Writer) steward.Exit {
	fail := func(format string, a ...any) steward.Exit {
		return steward.Exit{Code: 1, Problem: fmt.Sprintf(format, a...)}
	}
	s.tree.Lock()
	defer s.tree.Unlock()
	folder := r.Process.Folder
	mark := filepath.Join(folder, ".git", "yardbench-seeded")
	if st, err := os.Lstat(mark); err == nil && st.Mode().IsRegular() {
		return steward.Exit{}
	}
	a, err := lookup(r.Process.User)
	if err != nil {
		return fail("%s", err)
	}
	without := !s.hasGit(a, r.Process)
	if without {
		fmt.Fprintln(log, noGit)
	}
	mount := cmp.Or(r.Mount, folder)
	if _, err := emptyAround(mount, a, mountPoints()); err != nil {
		return fail("empty the workspace folder: %s", err)
	}
	if err := os.Chown(mount, int(a.uid), int(a.gid)); err != nil {
		return fail("give the workspace folder to %s: %s", a.name, err)
	}
	run := func(in string, argv ...string) steward.Exit {
		p := r.Process
		p.Argv, p.Folder = argv, in
		cmd, err := s.prepare(p)
		if err != nil {
			return fail("%s", err)
		}
		cmd.Stdout, cmd.Stderr = log, log
		x := ended(cmd.Run())
		if x.Code != 0 && x.Problem == "" {
			x.Problem = filepath.Base(argv[0]) + " " + argv[1] + " failed"
		}
		return x
	}
	git := func(in string, args ...string) steward.Exit { return run(in, append([]string{"git"}, args...)...) }
	clones := append(r.Beside, steward.Clone{URL: r.URL, Branch: r.Branch, Folder: folder}) // the one that is marked comes last
	if r.Prepared {
		n, err := copyTree(steward.PreparedFolder, mount)
		if err != nil {
			return fail("copy the prepared tree: %s", err)
		}
		fmt.Fprintf(log, "%d files from the prepared image\n", n)
	}
	for _, c := range clones {
		if err := errors.Join(os.MkdirAll(c.Folder, 0o755), os.Chown(c.Folder, int(a.uid), int(a.gid))); err != nil {
			return fail("make the folder of the clone: %s", err)
		}
		// A prebuild fetches nothing beside its repository.
		_, err := os.Lstat(filepath.Join(c.Folder, ".git"))
		here := r.Prepared && err == nil
		local := changes.LocalBranch(c.Branch)
		var x steward.Exit
		switch aside := filepath.Join(c.Folder, asideName); {
		case without:
			ask, err := json.Marshal(gitless{URL: c.URL, Branch: c.Branch, Folder: c.Folder, Proxy: s.gitProxy, Through: r.Process.GitHost, Prepared: here})
			if err != nil {
				return fail("ask for the clone: %s", err)
			}
			x = run("/", s.binary, "clone-without-git", string(ask))
		case here:
			// What the set-up changed in tracked files is dropped: the tree is the branch's.
			if changes.Request(c.Branch) > 0 {
				x = git(c.Folder, "config", "--add", "remote.origin.fetch", changes.RequestSpec(c.Branch))
			}
			if x.Problem == "" {
				x = git(c.Folder, "fetch", "--prune", "origin")
			}
			if x.Problem == "" {
				x = git(c.Folder, "checkout", "--force", "-B", local, "--track", "origin/"+local)
			}
		case changes.Request(c.Branch) > 0:
			if x = git("/", "clone", "--no-checkout", "--config", "remote.origin.fetch="+changes.RequestSpec(c.Branch), "--", c.URL, aside); x.Problem == "" {
				if err := errors.Join(os.Rename(filepath.Join(aside, ".git"), filepath.Join(c.Folder, ".git")), os.Remove(aside)); err != nil {
					return fail("put the clone in its place: %s", err)
				}
				x = git(c.Folder, "checkout", "--force", "-B", local, "--track", "origin/"+local)
			}
		default:
			// Git clones into empty folders alone, and volumes may be mounted within this one.
			if x = git("/", "clone", "--no-checkout", "--branch", c.Branch, "--", c.URL, aside); x.Problem == "" {
				if err := errors.Join(os.Rename(filepath.Join(aside, ".git"), filepath.Join(c.Folder, ".git")), os.Remove(aside)); err != nil {
					return fail("put the clone in its place: %s", err)
				}
				x = git(c.Folder, "reset", "--hard")
			}
		}
		if x.Problem != "" {
			return x
		}
	}
	// The mark is made where the user may write: never through a link of theirs.
	f, err := os.OpenFile(mark, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o444)
	if err != nil {
		return fail("mark the clone: %s", err)
	}
	if err := f.Close(); err != nil {
		return fail("mark the clone: %s", err)
	}
	return steward.Exit{Bytes: diskUse(mount)}
}

// emptyAround empties a folder but for what is mounted within it, which it gives
// to the user where it is empty: a volume that nobody wrote to is root's. left
// tells whether anything stays.
func emptyAround(folder string, a account, mounted map[string]bool) (left bool, err error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return false, err
	}
	for _, e := range entries {
		name := filepath.Join(folder, e.Name())
		if !e.IsDir() {
			if err := os.Remove(name); err != nil {
				return false, err
			}
			continue
		}
		if mounted[name] {
			left = true
			if within, err := os.ReadDir(name); err == nil && len(within) == 0 {
				if err := os.Chown(name, int(a.uid), int(a.gid)); err != nil && !errors.Is(err, syscall.EROFS) {
					return false, err
				}
			}
			continue
		}
		stays, err := emptyAround(name, a, mounted)
		if err != nil {
			return false, err
		}
		if stays {
			left = true
			if err := os.Chown(name, int(a.uid), int(a.gid)); err != nil {
				return false, err
			}
		} else if err := os.Remove(name); err != nil {
			return false, err
		}
	}
	return left, nil
}

// mountPoints are where something is mounted in the container (proc(5),
// mountinfo: the fifth field, with blanks and backslashes in octal).
func mountPoints() map[string]bool {
	text, _ := os.ReadFile("/proc/self/mountinfo") // without it nothing is spared, and emptying says what is busy
	plain := strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`)
	out := map[string]bool{}
	for _, line := range strings.Split(string(text), "\n") {
		if f := strings.Fields(line); len(f) > 4 {
			out[plain.Replace(f[4])] = true
		}
	}
	return out
}

// work looks at the workspace's clones for what exists nowhere else. It runs
// git as the user and takes a failure for "cannot be looked at".
func (s trees) work(p steward.Process) steward.WorkReport {
	w := s.workIn(p)
	for _, folder := range p.Also {
		q := p
		q.Folder = folder
		also := s.workIn(q)
		within := filepath.Base(folder) + ": "
		for _, u := range also.Uncommitted {
			w.Uncommitted = append(w.Uncommitted, within+u)
		}
		for _, u := range also.Unpushed {
			w.Unpushed = append(w.Unpushed, within+u)
		}
		w.Stashes += also.Stashes
		if w.Problem == "" && also.Problem != "" {
			w.Problem = within + also.Problem
		}
	}
	w.Uncommitted = w.Uncommitted[:min(len(w.Uncommitted), maxListed)]
	w.Unpushed = w.Unpushed[:min(len(w.Unpushed), maxListed)]
	return w
}

// hasGit tells whether a process would find git.
func (s trees) hasGit(a account, p steward.Process) bool {
	_, err := find("git", s.environment(a, p)["PATH"], "/")
	return err == nil
}

func (s trees) workIn(p steward.Process) steward.WorkReport {
	if a, err := lookup(p.User); err == nil && !s.hasGit(a, p) {
		return s.workWithoutGit(p)
	}
	var w steward.WorkReport
	git := func(args ...string) []string {
		if w.Problem != "" {
			return nil
		}
		q := p
		// A repository's own settings must not start programs here.
		q.Argv = append([]string{"git", "-c", "core.fsmonitor=false", "-c", "core.hooksPath=/dev/null", "-c", "core.quotePath=false"}, args...)
		cmd, err := s.prepare(q)
		if err != nil {
			w.Problem = err.Error()
			return nil
		}
		var out, errs bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &errs
		if err := cmd.Start(); err != nil {
			w.Problem = err.Error()
			return nil
		}
		timer := time.AfterFunc(20*time.Second, func() { _ = cmd.Process.Kill() })
		err = cmd.Wait()
		timer.Stop()
		if err != nil {
			w.Problem = fmt.Sprintf("git %s: %s", args[0], strings.TrimSpace(errs.String()))
			return nil
		}
		return strings.FieldsFunc(out.String(), func(r rune) bool { return r == '\n' })
	}
	if _, err := os.Stat(filepath.Join(p.Folder, ".git")); err != nil {
		w.Problem = "the workspace folder is no git clone any more"
		return w
	}
	for _, l := range git("status", "--porcelain", "--untracked-files=all") {
		if len(l) > 3 {
			w.Uncommitted = append(w.Uncommitted, l[3:])
		}
	}
	w.Unpushed = git("log", "--format=%h %s", "--max-count=1000", "HEAD", "--branches", "--tags", "--not", "--remotes")
	w.Stashes = len(git("stash", "list"))
	w.Uncommitted = w.Uncommitted[:min(len(w.Uncommitted), maxListed)]
	w.Unpushed = w.Unpushed[:min(len(w.Unpushed), maxListed)]
	return w
}

// workWithoutGit is workIn where the image has no git.
func (s trees) workWithoutGit(p steward.Process) (w steward.WorkReport) {
	p.Argv = []string{s.binary, "report-without-git", p.Folder}
	cmd, err := s.prepare(p)
	if err != nil {
		return steward.WorkReport{Problem: err.Error()}
	}
	var out bytes.Buffer
	cmd.Stdout = &out
	if err := cmd.Start(); err != nil {
		return steward.WorkReport{Problem: err.Error()}
	}
	timer := time.AfterFunc(time.Minute, func() { _ = cmd.Process.Kill() })
	err = cmd.Wait()
	timer.Stop()
	if err == nil {
		err = json.Unmarshal(out.Bytes(), &w)
	}
	if err != nil {
		return steward.WorkReport{Problem: "the clone cannot be looked at: " + err.Error()}
	}
	return w
}
