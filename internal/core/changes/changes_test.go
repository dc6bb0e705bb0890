package changes

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"yardbench/internal/bound"
)

// clone is a real one, and git in it.
type clone struct {
	t   *testing.T
	dir string
}

func (c clone) git(input string, args ...string) []byte {
	c.t.Helper()
	cmd := exec.Command("git", append([]string{"-C", c.dir, "-c", "user.name=Ingrid", "-c", "user.email=i@skerryline.example", "-c", "init.defaultBranch=main"}, args...)...)
	cmd.Stdin = strings.NewReader(input)
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	if err != nil {
		c.t.Fatalf("git %v: %v", args, err)
	}
	return out
}

func (c clone) put(name, text string) {
	c.t.Helper()
	if err := os.WriteFile(filepath.Join(c.dir, name), []byte(text), 0o644); err != nil {
		c.t.Fatal(err)
	}
}

func (c clone) status() Status {
	c.t.Helper()
	s, err := ReadStatus(c.git("", "status", "--porcelain=v2", "--branch", "--show-stash", "--untracked-files=all", "-z"))
	if err != nil {
		c.t.Fatal(err)
	}
	return s
}

func newClone(t *testing.T) clone {
	c := clone{t, t.TempDir()}
	c.git("", "init", "-q")
	return c
}

// numbers are lines, with some of them others.
func numbers(n int, other ...int) string {
	var b strings.Builder
	for i := 1; i <= n; i++ {
		text := fmt.Sprint("line ", i)
		for _, o := range other {
			if o == i {
				text = "other " + text
			}
		}
		b.WriteString(text + "\n")
	}
	return b.String()
}

// What git says of a clone is read, whatever its files are called.
func TestStatusOfAClone(t *testing.T) {
	c := newClone(t)
	if s := c.status(); s.Branch != "main" || s.Commit != "" || len(s.Files) != 0 {
		t.Errorf("a new one is %+v", s)
	}
	odd := "new\nline \xff -> x"
	c.put(odd, numbers(30))
	c.put("gone", "x\n")
	c.put("moved", numbers(20))
	c.git("", "add", ".")
	c.git("", "commit", "-qm", "first")
	c.put("stashed", "x")
	c.git("", "stash", "-uq")
	c.put(odd, numbers(30, 3))
	c.git("", "mv", "moved", "is here")
	c.put("is here", numbers(20, 1))
	c.git("", "rm", "-q", "gone")
	c.put("fresh", "x")
	s := c.status()
	got := map[string]string{}
	for _, f := range s.Files {
		got[f.Path] = f.Staged + "/" + f.Unstaged + "/" + f.From
	}
	want := map[string]string{odd: "/modified/", "is here": "renamed/modified/moved", "gone": "deleted//", "fresh": "/untracked/"}
	if fmt.Sprint(got) != fmt.Sprint(want) || s.Stashes != 1 || len(s.Commit) < 40 {
		t.Errorf("it is %q, %+v", got, s)
	}
	c.git("", "add", "-A")
	c.git("", "commit", "-qm", "second")
	c.git("", "switch", "-qc", "side", "HEAD~1")
	c.put("moved", "other\n")
	c.put(odd, "theirs\n")
	c.git("", "commit", "-qam", "third")
	c.git("", "branch", "-q", "--set-upstream-to=main")
	if s := c.status(); s.Upstream != "main" || s.Ahead != 1 || s.Behind != 1 {
		t.Errorf("beside main it is %+v", s)
	}
	_ = exec.Command("git", "-C", c.dir, "-c", "user.name=x", "-c", "user.email=x", "merge", "-q", "main").Run() // it does not go through
	conflicts := 0
	for _, f := range c.status().Files {
		if f.Conflict {
			conflicts++
		}
	}
	if conflicts == 0 {
		t.Error("no conflict is read")
	}
	all := ReadBranches(c.git("", "for-each-ref", "--format="+BranchFormat, "refs/heads", "refs/remotes"))
	if len(all) != 2 || all[0].Name != "main" || all[1].Name != "side" || !all[1].Current || all[1].Ahead != 1 || all[1].Subject != "third" || all[1].At.IsZero() {
		t.Errorf("the branches are %+v", all)
	}
}

// Of a file's hunks those that are chosen are staged, and taken back.
func TestPickHunks(t *testing.T) {
	c := newClone(t)
	c.put("a", numbers(60))
	c.git("", "add", ".")
	c.git("", "commit", "-qm", "first")
	c.put("a", strings.TrimSuffix(numbers(60, 2, 30, 58, 60), "\n"))
	d, err := ReadDifference(c.git("", "diff", "--", "a"), false)
	if err != nil || len(d.Hunks) != 3 || d.Hunks[1].OldStart != 27 || d.Hunks[1].NewLines != 7 {
		t.Fatalf("they are %+v, %v", d, err)
	}
	patch, missing := d.Pick([]string{d.Hunks[1].ID, d.Hunks[2].ID})
	if missing != "" {
		t.Fatal(missing)
	}
	c.git(string(patch), "apply", "--cached", "-")
	if got := string(c.git("", "show", ":a")); got != strings.TrimSuffix(numbers(60, 30, 58, 60), "\n") {
		t.Errorf("staged is %q", got)
	}
	left, err := ReadDifference(c.git("", "diff", "--", "a"), false)
	if err != nil || len(left.Hunks) != 1 || left.Hunks[0].ID != d.Hunks[0].ID {
		t.Errorf("what is left is %+v, %v", left, err)
	}
	if _, missing := left.Pick([]string{d.Hunks[1].ID}); missing != d.Hunks[1].ID {
		t.Errorf("what is not there any more is %q", missing)
	}
	// The same change in two places is two hunks.
	c.put("b", strings.Repeat("x\n", 40))
	c.git("", "add", "b")
	c.put("b", strings.Repeat("x\n", 10)+"y\n"+strings.Repeat("x\n", 20)+"y\n"+strings.Repeat("x\n", 10))
	twice, err := ReadDifference(c.git("", "diff", "--", "b"), false)
	if err != nil || len(twice.Hunks) != 2 || twice.Hunks[0].ID == twice.Hunks[1].ID {
		t.Errorf("they are %+v, %v", twice, err)
	}
	c.put("c", "\x00\x01")
	c.git("", "add", "-N", "c")
	if d, err := ReadDifference(c.git("", "diff", "--", "c"), false); err != nil || !d.Binary || len(d.Hunks) != 0 {
		t.Errorf("a binary is %+v, %v", d, err)
	}
}

// What is cut off anywhere, or is rubbish, is read as far as it is whole; and costs
// no more than its size.
func FuzzDifference(f *testing.F) {
	f.Add([]byte("diff --git a/a b/a\nindex 1..2 100644\n--- a/a\n+++ b/a\n@@ -1,2 +1,2 @@ func x\n-a\n+b\n c\n\\ No newline at end of file\n@@ -9 +9 @@\n-x\n+y\n"))
	f.Add([]byte("@@ -1,2 +1,99999999 @@\n"))
	f.Add([]byte("# branch.oid x\x001 M. N... 1 1 1 a b c\x002 R. N... 1 1 1 a b R1 c\x00d\x00? e\x00u UU N\x00"))
	f.Fuzz(func(t *testing.T, out []byte) {
		bound.Hold(t, 64, func() {
			for _, cut := range []bool{false, true} {
				d, err := ReadDifference(out, cut)
				size := len(d.Head)
				for _, h := range d.Hunks {
					size += len(h.raw)
				}
				if size > len(out) || err == nil && !d.Cut && size < len(out) {
					t.Errorf("of %d bytes %d are read", len(out), size)
				}
				if patch, _ := d.Pick(nil); len(patch) != len(d.Head) {
					t.Error("nothing chosen is something")
				}
			}
			s, _ := ReadStatus(out) // it may be none
			if len(s.Files) > len(out) {
				t.Error("there are more files than bytes")
			}
			ReadBranches(out)
		})
	})
}
