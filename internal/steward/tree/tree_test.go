package tree

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"yardbench/internal/steward"
)

// world is a folder to serve, beside one that nobody may come to.
func world(t *testing.T, files map[string]string) (*Tree, string) {
	t.Helper()
	base := t.TempDir()
	in, out := filepath.Join(base, "in"), filepath.Join(base, "out")
	for _, d := range []string{in, out} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	put(t, filepath.Join(out, "kept"), "kept")
	for name, text := range files {
		put(t, filepath.Join(in, name), text)
	}
	tr, err := Open(in)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(tr.Close)
	return tr, in
}

func put(t *testing.T, path, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

func must[T any](t *testing.T) func(T, error) T {
	return func(v T, err error) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
}

// kind is the kind of a problem; "" is none.
func kind(err error) string {
	var p *steward.FileProblem
	switch {
	case err == nil:
		return ""
	case errors.As(err, &p):
		return p.Kind
	}
	return "unknown: " + err.Error()
}

func (t *Tree) text(p string) (string, error) {
	f, _, err := t.Read(p)
	if err != nil {
		return "", err
	}
	defer f.Close()
	b, err := io.ReadAll(f)
	return string(b), err
}

// Nothing leads out, by whatever name it is asked and whatever is done with it.
func TestNothingLeadsOut(t *testing.T) {
	tr, in := world(t, map[string]string{"a/file": "inside"})
	out := filepath.Join(filepath.Dir(in), "out")
	for name, to := range map[string]string{"far": out, "up": "../out", "deep": "a/../../out", "file": filepath.Join(out, "kept"), "new": "../out/new", "near": "a", "self": in + "/a"} {
		if err := os.Symlink(to, filepath.Join(in, name)); err != nil {
			t.Fatal(err)
		}
	}
	for _, p := range []string{"../out/kept", "a/../../out/kept", "/etc/passwd", out + "/kept", "far/kept", "up/kept", "deep/kept", "file", in + "/../out/kept", in + "x", strings.Repeat("../", 40) + "etc/passwd"} {
		if text, err := tr.text(p); err == nil {
			t.Errorf("%s reads %q", p, text)
		}
		if _, err := tr.Write(t.Context(), p, strings.NewReader("other"), Condition{}); err == nil {
			t.Errorf("%s is written", p)
		}
		if _, err := tr.Folder(p + "/x"); err == nil {
			t.Errorf("%s takes a folder", p)
		}
		if p != "file" { // the link itself may be moved
			if _, err := tr.Move(p, "taken", true); err == nil {
				t.Errorf("%s is moved", p)
			}
			if err := tr.Remove(p, true, Condition{}); err == nil {
				t.Errorf("%s is removed", p)
			}
		}
		if _, err := tr.Move("a/file", p, true); err == nil && p != "file" {
			t.Errorf("something is moved to %s", p)
		}
	}
	if _, err := tr.Write(t.Context(), "new", strings.NewReader("x"), Condition{}); kind(err) != steward.FileBeyond {
		t.Errorf("a link to what is not there yet, outside, is written through: %v", err)
	}
	for _, p := range []string{"far", "up", "deep"} {
		if _, _, err := tr.List(p, "", 10); kind(err) != steward.FileBeyond {
			t.Errorf("%s is listed: %v", p, err)
		}
		if e := must[steward.FileEntry](t)(tr.Show(p)); e.Kind != "link" || e.Leads != "" {
			t.Errorf("%s shows as %+v", p, e)
		}
	}
	put(t, filepath.Join(in, "a/file"), "inside")
	if text := must[string](t)(tr.text("near/file")); text != "inside" {
		t.Errorf("a link within reads %q", text)
	}
	if e := must[steward.FileEntry](t)(tr.Show("near")); e.Leads != "folder" || string(e.Target) != "a" {
		t.Errorf("a link within shows as %+v", e)
	}
	if err := tr.Remove("far", true, Condition{}); err != nil {
		t.Errorf("a link is removed: %v", err)
	}
	if err := tr.Remove(".", true, Condition{}); err == nil {
		t.Error("the folder itself was removed")
	}
	if b, err := os.ReadFile(filepath.Join(out, "kept")); err != nil || string(b) != "kept" {
		t.Errorf("outside there is %q, %v", b, err)
	}
	if left, _ := os.ReadDir(out); len(left) != 1 {
		t.Errorf("outside there are %v", left)
	}
}

// A folder that somebody swaps for a link out, again and again, never leads there.
func TestSwappedMeanwhile(t *testing.T) {
	tr, in := world(t, map[string]string{"d/kept": "inside"})
	out := filepath.Join(filepath.Dir(in), "out")
	stop := make(chan struct{})
	var wg sync.WaitGroup
	wg.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
			}
			_ = os.Rename(filepath.Join(in, "d"), filepath.Join(in, "e"))
			_ = os.Symlink(out, filepath.Join(in, "d"))
			_ = os.Remove(filepath.Join(in, "d"))
			_ = os.Rename(filepath.Join(in, "e"), filepath.Join(in, "d"))
		}
	})
	for i := range 3000 {
		if text, err := tr.text("d/kept"); err == nil && text != "inside" {
			t.Errorf("it reads %q", text)
		}
		_, _ = tr.Write(t.Context(), "d/new", strings.NewReader("x"), Condition{}) // it may be away just then
		_ = tr.Remove("d/new", false, Condition{})
		if i%100 == 0 {
			_, _ = tr.Pack(t.Context(), ".", "tar", nil, io.Discard)
		}
	}
	close(stop)
	wg.Wait()
	if left, _ := os.ReadDir(out); len(left) != 1 || left[0].Name() != "kept" {
		t.Errorf("outside there are %v", left)
	}
}

// Names are bytes; a folder of many is read part by part; what is no file does not
// keep anybody waiting.
func TestOddNamesAndParts(t *testing.T) {
	files := map[string]string{"new\nline": "1", "not\xfftext": "2", " ": "3", "-rf": "4", "ünïcode": "5", "sub/x": "6", "..x": "7", "a;$(b)": "8"}
	tr, in := world(t, files)
	for i := range 2500 {
		put(t, filepath.Join(in, fmt.Sprintf("n%05d", i)), "")
	}
	if err := syscall.Mkfifo(filepath.Join(in, "pipe"), 0o644); err != nil {
		t.Fatal(err)
	}
	for name, text := range files {
		if got, err := tr.text(name); err != nil || got != text {
			t.Errorf("%q reads %q, %v", name, got, err)
		}
	}
	if _, err := tr.text("pipe"); kind(err) != steward.FileKind {
		t.Errorf("a pipe is read: %v", err)
	}
	if _, err := tr.text("."); kind(err) != steward.FileKind {
		t.Errorf("a folder is read: %v", err)
	}
	var seen []string
	parts := 0
	for after := ""; ; parts++ {
		part, next, err := tr.List(".", after, 1000)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range part {
			seen = append(seen, string(e.Name))
		}
		if after = next; next == "" {
			break
		}
		put(t, filepath.Join(in, "n00000a"), "") // what comes in between moves nothing
	}
	if seen[0] != "sub" || len(seen) != 2508+1 || parts != 2 || !slices.IsSorted(seen[1:]) {
		t.Errorf("%d names in %d parts, first %q", len(seen), parts+1, seen[0])
	}
}

// What is written is there whole or not at all, and only from the state it was made of.
func TestWriting(t *testing.T) {
	tr, in := world(t, map[string]string{"run": "old"})
	if err := os.Chmod(filepath.Join(in, "run"), 0o750); err != nil {
		t.Fatal(err)
	}
	was := must[steward.FileEntry](t)(tr.Show("run"))
	write := func(p, text string, c Condition) error {
		_, err := tr.Write(t.Context(), p, strings.NewReader(text), c)
		return err
	}
	now, err := tr.Write(t.Context(), "run", strings.NewReader("new"), Condition{Tags: []string{was.Tag}})
	if err != nil || now.Tag == was.Tag || now.Mode != 0o750 || now.Bytes != 3 {
		t.Errorf("it is %+v, %v", now, err)
	}
	for what, c := range map[string]struct {
		path string
		if_  Condition
		want string
	}{
		"with the state before":   {"run", Condition{Tags: []string{was.Tag}}, steward.FileChanged},
		"where nothing may be":    {"run", Condition{New: true}, steward.FileThere},
		"where something must":    {"ghost", Condition{Tags: []string{"*"}}, steward.FileMissing},
		"whatever is there":       {"run", Condition{Tags: []string{"*"}}, ""},
		"new":                     {"fresh", Condition{New: true}, ""},
		"in no folder":            {"no/where", Condition{}, steward.FileMissing},
		"beneath a file":          {"run/x", Condition{}, steward.FileKind},
		"as the folder":           {".", Condition{}, steward.FileKind},
		"with a name too long":    {strings.Repeat("x", 300), Condition{}, steward.FileInvalid},
		"with a path too long":    {strings.Repeat("x/", 3000), Condition{}, steward.FileInvalid},
		"with a zero in its name": {"a\x00b", Condition{}, steward.FileInvalid},
	} {
		if got := kind(write(c.path, "text", c.if_)); got != c.want {
			t.Errorf("written %s: %q, not %q", what, got, c.want)
		}
	}
	cut := io.MultiReader(strings.NewReader("half"), failing{})
	if _, err := tr.Write(t.Context(), "run", cut, Condition{}); err == nil {
		t.Error("what was cut off was written")
	}
	if text := must[string](t)(tr.text("run")); text != "text" {
		t.Errorf("it reads %q", text)
	}
	// Of many who write from the same state one does.
	state := must[steward.FileEntry](t)(tr.Show("run"))
	var wg sync.WaitGroup
	won := make(chan int, 20)
	for i := range 20 {
		wg.Go(func() {
			if write("run", fmt.Sprint(i), Condition{Tags: []string{state.Tag}}) == nil {
				won <- i
			}
		})
	}
	wg.Wait()
	if len(won) != 1 {
		t.Errorf("%d of them wrote", len(won))
	}
	// A link is followed to the file.
	if err := os.Symlink("run", filepath.Join(in, "link")); err != nil {
		t.Fatal(err)
	}
	if err := write("link", "by the link", Condition{}); err != nil {
		t.Error(err)
	}
	if text := must[string](t)(tr.text("run")); text != "by the link" {
		t.Errorf("the file reads %q", text)
	}
	if left, _ := filepath.Glob(filepath.Join(in, draftName+"*")); len(left) != 0 {
		t.Errorf("there are left %v", left)
	}
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, io.ErrUnexpectedEOF }

// Moving and removing take care of what is there.
func TestMovingAndRemoving(t *testing.T) {
	tr, _ := world(t, map[string]string{"a": "a", "b": "b", "d/x": "x", "d/y": "y"})
	for _, c := range []struct {
		what string
		err  error
		want string
	}{
		{"over what is there", second(tr.Move("a", "b", false)), steward.FileThere},
		{"over it, as was said", second(tr.Move("a", "b", true)), ""},
		{"what is not there", second(tr.Move("a", "c", false)), steward.FileMissing},
		{"into itself", second(tr.Move("d", "d/e", false)), steward.FileInvalid},
		{"to another name", second(tr.Move("d", "e", false)), ""},
		{"a folder that holds something", tr.Remove("e", false, Condition{}), steward.FileKind},
		{"a file in another state", tr.Remove("b", false, Condition{Tags: []string{"x"}}), steward.FileChanged},
		{"a file", tr.Remove("e/x", false, Condition{}), ""},
		{"all of it", tr.Remove("e", true, Condition{}), ""},
		{"nothing", tr.Remove("e", true, Condition{}), steward.FileMissing},
	} {
		if got := kind(c.err); got != c.want {
			t.Errorf("%s: %q, not %q: %v", c.what, got, c.want, c.err)
		}
	}
}

func second[T any](_ T, err error) error { return err }

// A search finds names and lines, leaves out what git passes over, and ends.
func TestSearch(t *testing.T) {
	tr, in := world(t, map[string]string{"src/Tide.go": "package tide\n// High water\n", "src/low.go": "high\n", ".git/HEAD": "high", "bin": "high\x00", "long": strings.Repeat("é", 2000) + "high" + strings.Repeat("x", 2000)})
	find := func(q Query) (out []string, more bool) {
		t.Helper()
		if q.Limit == 0 {
			q.Limit = 100
		}
		more, err := tr.Search(t.Context(), q, func(n steward.FileNews) error {
			out = append(out, fmt.Sprintf("%s:%d:%d", n.Path, n.Line, n.Column))
			if len(n.Text) > maxLine+8 {
				t.Errorf("a line of %d bytes is told", len(n.Text))
			}
			return nil
		})
		if err != nil {
			t.Error(err)
		}
		return out, more
	}
	for want, q := range map[string]Query{
		`[src/Tide.go:0:0]`:                            {Named: "tide"},
		`[src/Tide.go:0:0 src/low.go:0:0]`:             {Named: "*.go"},
		`[src/low.go:0:0]`:                             {Named: "src/l*"},
		`[src/Tide.go:2:4 src/low.go:1:1 long:1:4001]`: {Text: "high"},
		`[src/low.go:1:1 long:1:4001]`:                 {Text: "high", Exact: true},
		`[src/Tide.go:2:4]`:                            {Text: "h.gh w", Expression: true},
		`[src/Tide.go:2:1]`:                            {Text: "^// .*r$", Expression: true},
		`[]`:                                           {Text: "h.gh"},
		`[low.go:1:1]`:                                 {Path: "src", Text: "high", Exact: true},
	} {
		if got, _ := find(q); fmt.Sprint(got) != want {
			t.Errorf("%+v finds %v, not %s", q, got, want)
		}
	}
	if got, more := find(Query{Text: "high", Limit: 2}); len(got) != 2 || !more {
		t.Errorf("of more than two there are %v, %v", got, more)
	}
	for _, q := range []Query{{Text: "(", Expression: true}, {Named: "[a"}, {Text: strings.Repeat("x", 2000)}} {
		if _, err := tr.Search(t.Context(), q, nil); kind(err) != steward.FileInvalid {
			t.Errorf("%.20v is %v", q, err)
		}
	}
	for _, f := range []string{"refs", "objects"} {
		if err := os.MkdirAll(filepath.Join(in, ".git", f), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	put(t, filepath.Join(in, ".git/HEAD"), "ref: refs/heads/main\n")
	put(t, filepath.Join(in, ".gitignore"), "long\n")
	if got, _ := find(Query{Text: "high", Exact: true}); fmt.Sprint(got) != `[src/low.go:1:1]` {
		t.Errorf("with what git passes over there are %v", got)
	}
	if got, _ := find(Query{Text: "high", Exact: true, All: true}); len(got) < 2 {
		t.Errorf("all of it is %v", got)
	}
}

// What changes is told, also in folders that come later, and where the kernel tells
// nothing.
func TestWatch(t *testing.T) {
	for _, look := range []bool{false, true} {
		tr, in := world(t, map[string]string{"a/x": "1", ".git/objects/1": "", "gone": "1"})
		ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
		defer cancel()
		seen := make(chan string, 100)
		go func() {
			tell := func(paths []string) error {
				if paths == nil {
					seen <- "anew"
				}
				for _, p := range paths {
					seen <- p
				}
				return nil
			}
			if look {
				seen <- fmt.Sprint(tr.lookAgain(ctx, tr.folders[0].root, ".", 50*time.Millisecond, tell))
			} else {
				seen <- fmt.Sprint(tr.Watch(ctx, ".", tell))
			}
		}()
		await := func(want string) {
			t.Helper()
			for {
				select {
				case got := <-seen:
					if got == want {
						return
					}
					if strings.Contains(got, "objects/2") || strings.Contains(got, draftName) {
						t.Errorf("%s is told", got)
					}
				case <-ctx.Done():
					t.Fatalf("looked at: %v: %s is not told", look, want)
				}
			}
		}
		await("anew")
		put(t, filepath.Join(in, ".git/objects/2"), "")
		put(t, filepath.Join(in, "a/x"), "23")
		await("a/x")
		put(t, filepath.Join(in, "b/c/d"), "1")
		await("b/c/d")
		if !look {
			put(t, filepath.Join(in, "b/c/e"), "1")
			await("b/c/e")
			for i := range 2 * maxTold {
				put(t, filepath.Join(in, fmt.Sprint("many", i)), "")
			}
			await("anew")
		}
		if err := os.Remove(filepath.Join(in, "gone")); err != nil {
			t.Fatal(err)
		}
		await("gone")
		cancel()
	}
}
