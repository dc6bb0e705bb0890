package cli

import (
	"archive/tar"
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// What a workspace packs is anybody's: nothing of it is written outside of the folder
// that it is brought to, by no name, link or number.
func TestUnpackStaysWithin(t *testing.T) {
	at := time.Unix(1_790_000_000, 0)
	file := func(name string) tar.Header {
		return tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: 0o640, Size: 2, ModTime: at}
	}
	for what, c := range map[string]struct {
		heads []tar.Header
		bad   string
	}{
		"plain":            {[]tar.Header{{Typeflag: tar.TypeDir, Name: "a/", Mode: 0o755}, file("a/b"), file("./a/c")}, ""},
		"above":            {[]tar.Header{file("../b")}, "not within"},
		"above, later":     {[]tar.Header{file("a/../../b")}, "not within"},
		"from the root":    {[]tar.Header{file("/b")}, "not within"},
		"through a link":   {[]tar.Header{{Typeflag: tar.TypeSymlink, Name: "a", Linkname: ".."}, file("a/b")}, ""}, // the link is left out, and a is a folder
		"through ours":     {[]tar.Header{file("out/b")}, "escapes"},
		"a hard link":      {[]tar.Header{{Typeflag: tar.TypeLink, Name: "a", Linkname: "../secret"}}, ""},
		"a device":         {[]tar.Header{{Typeflag: tar.TypeChar, Name: "a", Devmajor: 1, Devminor: 3}}, ""},
		"more than may be": {[]tar.Header{{Typeflag: tar.TypeReg, Name: "a", Size: bringMost + 1}}, "GiB"},
	} {
		t.Run(what, func(t *testing.T) {
			dir := t.TempDir()
			into := filepath.Join(dir, "into")
			if err := os.MkdirAll(into, 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(dir, "secret"), []byte("x"), 0o600); err != nil {
				t.Fatal(err)
			}
			if err := os.Symlink(dir, filepath.Join(into, "out")); err != nil {
				t.Fatal(err)
			}
			var b bytes.Buffer
			w := tar.NewWriter(&b)
			for _, h := range c.heads {
				if err := w.WriteHeader(&h); err != nil {
					t.Fatal(err)
				}
				if h.Size == 2 {
					if _, err := w.Write([]byte("ok")); err != nil {
						t.Fatal(err)
					}
				}
			}
			_ = w.Close() // one is cut off on purpose
			root, err := os.OpenRoot(into)
			if err != nil {
				t.Fatal(err)
			}
			defer root.Close()
			err = unpack(&b, root)
			if (err == nil) != (c.bad == "") || err != nil && !strings.Contains(err.Error(), c.bad) {
				t.Errorf("it ends with %v, not %q", err, c.bad)
			}
			around, _ := os.ReadDir(dir) // it was made above
			if len(around) != 2 {
				t.Errorf("around the folder there is %v", around)
			}
			if what == "plain" {
				if i, err := os.Stat(filepath.Join(into, "a", "b")); err != nil || i.Mode().Perm() != 0o640 || !i.ModTime().Equal(at) {
					t.Errorf("a file comes as %v, %v", i, err)
				}
			}
		})
	}
	if err := unpack(strings.NewReader(strings.Repeat("rubbish", 200)), mustRoot(t)); err == nil || !strings.Contains(err.Error(), "no archive") {
		t.Errorf("rubbish is unpacked: %v", err)
	}
}

func mustRoot(t *testing.T) *os.Root {
	t.Helper()
	root, err := os.OpenRoot(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { root.Close() })
	return root
}

// --where speaks the words of list's flags, and says what it does not know.
func TestWhere(t *testing.T) {
	q, err := readWhere([]string{"all,state=idle", "state=set-up failed,team=Decks"})
	if err != nil || !q.All || q.Team != "Decks" || len(q.States) != 2 || q.States[1] != "set-up failed" {
		t.Errorf("%+v, %v", q, err)
	}
	for where, says := range map[string]string{"sate=idle": "write state", "team=": "which team", "team=a,team=b": "twice", "owner": "which owner", "all=yes": "", "": "one of", "x=y": "one of"} {
		if _, err := readWhere([]string{where}); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q is %v", where, err)
		}
	}
}
