package test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"yardbench/wire"
)

// What is changed in a workspace's clones is looked at, staged by file and by hunk,
// committed and pushed from outside, by git itself, with what its hooks and its host
// say.
func TestChanges(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	c, ctx := w.client("ingrid"), t.Context()
	run := func(script string) {
		t.Helper()
		w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-ec", script), 0)
	}
	now := func() (wire.Changes, map[string]string) {
		t.Helper()
		all, err := c.Changes.List(ctx, "quay")
		if err != nil || len(all) != 1 || all[0].Problem != "" {
			t.Fatalf("they are %+v, %v", all, err)
		}
		is := map[string]string{}
		for _, f := range all[0].Files {
			is[f.Path] = f.Staged + "/" + f.Unstaged
		}
		return all[0], is
	}
	first, is := now()
	if first.Folder != "/workspaces/tide-board" || first.Branch != "main" || first.Upstream != "origin/main" || len(is) != 0 {
		t.Fatalf("it begins as %+v", first)
	}
	run(`seq 1 60 >levels; git add levels; git commit -qm levels; sed -i 's/^3$/three/; s/^50$/fifty/' levels; printf 'x\n' >"new
line"; mkdir deep; echo x >deep/er; printf 'b\000' >bin; ln -s /etc link`)
	if _, is = now(); is["levels"] != "/modified" || is["new\nline"] != "/untracked" || is["deep/er"] != "/untracked" || is["link"] != "/untracked" {
		t.Errorf("they are %v", is)
	}
	d, err := c.Changes.Difference(ctx, "quay", "", "levels", false)
	if err != nil || len(d.Hunks) != 2 || fmt.Sprint(d.Hunks[0].Lines[2:4]) != "[-3 +three]" {
		t.Fatalf("it differs by %+v, %v", d, err)
	}
	if d, err := c.Changes.Difference(ctx, "quay", "", "new\nline", false); err != nil || len(d.Hunks) != 1 || d.Hunks[0].Lines[0] != "+x" {
		t.Errorf("one that is new differs by %+v, %v", d, err)
	}
	if d, err := c.Changes.Difference(ctx, "quay", "", "bin", false); err != nil || !d.Binary {
		t.Errorf("a binary differs by %+v, %v", d, err)
	}
	one := wire.Choice{Paths: []string{"levels"}, Hunks: []string{d.Hunks[1].ID}}
	if _, err := c.Changes.Stage(ctx, "quay", one); err != nil {
		t.Fatal(err)
	}
	if got := problem(second(c.Changes.Stage(ctx, "quay", one))); got != "changed" {
		t.Errorf("a hunk that is staged already: %q", got)
	}
	staged, err := c.Changes.Difference(ctx, "quay", "", "levels", true)
	if err != nil || len(staged.Hunks) != 1 || staged.Hunks[0].ID != d.Hunks[1].ID {
		t.Fatalf("staged is %+v, %v", staged, err)
	}
	if _, err := c.Changes.Unstage(ctx, "quay", wire.Choice{Paths: []string{"levels"}, Hunks: []string{staged.Hunks[0].ID}}); err != nil {
		t.Error(err)
	}
	if _, is = now(); is["levels"] != "/modified" {
		t.Errorf("taken back it is %v", is)
	}
	if _, err := c.Changes.Discard(ctx, "quay", wire.Choice{Paths: []string{"levels"}, Hunks: []string{d.Hunks[0].ID}}); err != nil {
		t.Error(err)
	}
	if _, err := c.Changes.Stage(ctx, "quay", wire.Choice{Paths: []string{"levels", "new\nline"}}); err != nil {
		t.Error(err)
	}
	if _, err := c.Changes.Unstage(ctx, "quay", wire.Choice{Paths: []string{"new\nline"}}); err != nil {
		t.Error(err)
	}
	if after, err := c.Changes.Discard(ctx, "quay", wire.Choice{Paths: []string{"deep", "bin", "link", "new\nline"}}); err != nil || len(after.Files) != 1 {
		t.Errorf("after discarding there are %+v, %v", after, err)
	}

	// A hook has its say, and its words are told.
	run(`printf '#!/bin/sh\necho "the harbour master says no, paths=$GIT_LITERAL_PATHSPECS." >&2; exit 1\n' >.git/hooks/pre-commit; chmod +x .git/hooks/pre-commit`)
	_, err = c.Changes.Commit(ctx, "quay", wire.NewCommit{Message: "Fifty\n\nin words"})
	var p *wire.Problem
	if !errors.As(err, &p) || problem(err) != "git-refuses" || !strings.Contains(p.Output, "harbour master says no, paths=.") {
		t.Errorf("with a hook that says no it is %v", err)
	}
	// One that hangs ends when nobody waits any more, and holds nothing up.
	run(`printf '#!/bin/sh\necho $$ >/tmp/hook; exec sleep 600\n' >.git/hooks/pre-commit`)
	soon, cancel := context.WithTimeout(ctx, 2*time.Second)
	if _, err := c.Changes.Commit(soon, "quay", wire.NewCommit{Message: "x"}); err == nil {
		t.Error("with a hook that hangs it is committed")
	}
	cancel()
	run(`for i in $(seq 100); do kill -0 $(cat /tmp/hook) 2>/dev/null || exit 0; sleep 0.1; done; exit 1`)
	run(`rm -f .git/hooks/pre-commit .git/index.lock`)
	made, err := c.Changes.Commit(ctx, "quay", wire.NewCommit{Message: "Fifty\n\nin words"})
	if err != nil || len(made.Commit) < 40 || !strings.Contains(made.Output, "Fifty") {
		t.Fatalf("it is %+v, %v", made, err)
	}
	if got := problem(second(c.Changes.Commit(ctx, "quay", wire.NewCommit{Message: "x"}))); got != "no-change" {
		t.Errorf("with nothing staged it is %q", got)
	}
	w.must(w.as("ingrid", "", "run", "quay", "--", "git", "log", "-1", "--format=%an %ae %B"), 0, "Ingrid", "in words")

	// Branches, and what goes to and comes from the host.
	if is, err := c.Changes.Switch(ctx, "quay", wire.SwitchBranch{Name: "words", New: true}); err != nil || is.Branch != "words" || is.Upstream != "" {
		t.Errorf("on another branch it is %+v, %v", is, err)
	}
	for what, in := range map[string]wire.SwitchBranch{"that is not there": {Name: "nowhere"}, "that is there": {Name: "main", New: true}, "of rubbish": {Name: "a..b", New: true}} {
		if got := problem(second(c.Changes.Switch(ctx, "quay", in))); got != "git-refuses" {
			t.Errorf("to a branch %s: %q", what, got)
		}
	}
	if got := problem(second(c.Changes.Switch(ctx, "quay", wire.SwitchBranch{Name: "--orphan", New: true}))); got != "invalid" {
		t.Errorf("an option for a branch: %q", got)
	}
	pushed, err := c.Changes.Push(ctx, "quay", wire.Exchange{})
	if err != nil || pushed.Changes.Upstream != "origin/words" || pushed.Changes.Ahead != 0 || !strings.Contains(pushed.Output, "words") {
		t.Errorf("pushed it is %+v, %v", pushed, err)
	}
	branches, err := c.Changes.Branches(ctx, "quay", "")
	names := map[string]bool{}
	for _, b := range branches {
		names[fmt.Sprintln(b.Name, b.Remote, b.Current)] = true
	}
	if err != nil || !names["words false true\n"] || !names["main false false\n"] || !names["origin/words true false\n"] {
		t.Errorf("the branches are %v, %v", names, err)
	}
	run(`git clone -qb words "$(git remote get-url origin)" /tmp/other; cd /tmp/other; echo x >theirs; git add .; git commit -qm theirs; git push -q`)
	fetched, err := c.Changes.Fetch(ctx, "quay", wire.Exchange{})
	if err != nil || fetched.Changes.Behind != 1 {
		t.Errorf("fetched it is %+v, %v", fetched, err)
	}
	run(`echo y >more; git add more`)
	if _, err := c.Changes.Commit(ctx, "quay", wire.NewCommit{Message: "More"}); err != nil {
		t.Error(err)
	}
	_, err = c.Changes.Push(ctx, "quay", wire.Exchange{})
	if p = nil; !errors.As(err, &p) || problem(err) != "git-refuses" || !strings.Contains(p.Output, "rejected") {
		t.Errorf("what the host refuses is %v", err)
	}
	if got := problem(second(c.Changes.Difference(ctx, "quay", "/etc", "passwd", false))); got != "not-found" {
		t.Errorf("a folder that is no clone: %q", got)
	}
	w.must(w.as("ingrid", "", "journal", "list", "--json"), 0, "workspace.changes-committed", "workspace.changes-pushed")
}
