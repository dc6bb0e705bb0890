package repo

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// A build context holds files as they are kept: attributes do not make them
// another size, and more files than are allowed are told before one is written.
func TestPackIsBounded(t *testing.T) {
	address, commit, _ := host(t, `head -c 200000 /dev/zero | tr '\0' x | iconv -f UTF-8 -t UTF-32 > big; printf 'big text working-tree-encoding=UTF-32\nlines ident text eol=crlf\n' > .gitattributes; printf 'a\n$Id$\n' > lines; : > empty
		mkdir -p deep; ln -s /etc deep/away; echo here > deep/file; printf '\n' > "odd
name"; git add -A; git -c user.name=i -c user.email=i@skerryline.example commit -q -m one; : > more
		blob=$(git hash-object -w --stdin </dev/null)
		leaf=$(for i in $(seq 100); do printf '100644 blob %s\tf%s\n' $blob $i; done | git mktree)
		mid=$(for i in $(seq 100); do printf '040000 tree %s\td%s\n' $leaf $i; done | git mktree)
		top=$(for i in $(seq 100); do printf '040000 tree %s\td%s\n' $mid $i; done | git mktree)
		far=$(for i in $(seq 100); do printf '040000 tree %s\td%s\n' $top $i; done | git mktree)
		for name in top far mid; do eval tree=\$$name; git update-ref refs/heads/$name $(git -c user.name=i -c user.email=i@skerryline.example commit-tree -m x $tree); done`)
	m, ctx := NewMirrors(filepath.Join(t.TempDir(), "mirrors")), t.Context()
	if err := m.Fetch(ctx, "r1", address, Credential{}); err != nil {
		t.Fatal(err)
	}
	dest := filepath.Join(t.TempDir(), "context")
	if err := m.Pack(ctx, "r1", commit, ".", dest); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]int64{"big": 200000, "lines": 7, "empty": 0, "odd\nname": 1, "deep/file": 5} {
		if i, err := os.Lstat(filepath.Join(dest, name)); err != nil || i.Size() != want || i.Mode().Perm() != 0o644 {
			t.Errorf("%q is packed as %v, %v", name, i, err)
		}
	}
	for _, branch := range []string{"top", "far"} {
		commit, err := m.Resolve(ctx, "r1", branch)
		if err != nil {
			t.Fatal(err)
		}
		began := time.Now()
		var p Problem
		to := filepath.Join(t.TempDir(), "context")
		if err := m.Pack(ctx, "r1", commit, ".", to); !errors.As(err, &p) || time.Since(began) > 20*time.Second {
			t.Errorf("a bomb of files is answered %v after %s", err, time.Since(began))
		}
		if _, err := os.Stat(to); err == nil {
			t.Error("something of it is written")
		}
	}
	if mid, err := m.Resolve(ctx, "r1", "mid"); err != nil {
		t.Error(err)
	} else if err := m.Pack(ctx, "r1", mid, ".", filepath.Join(t.TempDir(), "context")); err != nil {
		t.Errorf("10,000 files are answered %v", err)
	}
}

// What a tree that was made by hand names is never written elsewhere.
func TestPathsOfContexts(t *testing.T) {
	root, err := os.OpenRoot(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	if err := root.Symlink("/tmp", "out"); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"../x", "/x", "a/../../x", ".git/config", "a/.GIT/hooks", "", "a//b", "./a", "out/x"} {
		if err := write(root, packed{mode: "100644", name: name}, 1, strings.NewReader("x")); err == nil {
			t.Errorf("%q is written", name)
		}
	}
	if err := write(root, packed{mode: "100644", name: "short"}, 2, strings.NewReader("x")); err == nil {
		t.Error("a file that is cut off is taken for whole")
	}
}
