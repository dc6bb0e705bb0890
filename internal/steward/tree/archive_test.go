package tree

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"yardbench/internal/bound"
	"yardbench/internal/steward"
)

// What is packed and unpacked elsewhere is the same, links and rights too.
func TestArchives(t *testing.T) {
	files := map[string]string{"src/new\nline": "1", "src/deep/er/x": strings.Repeat("x", 100000), "src/not\xfftext": "2", "src/empty": ""}
	for _, form := range []string{"tar", "zip"} {
		tr, in := world(t, files)
		if err := os.Symlink("deep/er", filepath.Join(in, "src/link")); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(filepath.Join(in, "src/empty"), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := syscall.Mkfifo(filepath.Join(in, "src/pipe"), 0o644); err != nil {
			t.Fatal(err)
		}
		var packed bytes.Buffer
		if left, err := tr.Pack(t.Context(), "src", form, nil, &packed); err != nil || left != 1 {
			t.Fatalf("%s: %d left out, %v", form, left, err)
		}
		b, err := tr.Unpack(t.Context(), "other/place", form, bytes.NewReader(packed.Bytes()))
		if err != nil || b.Files != 8 || b.Bytes != 100002 {
			t.Errorf("%s brings %+v, %v", form, b, err)
		}
		for name, text := range files {
			if got, err := tr.text("other/place/" + name); err != nil || got != text {
				t.Errorf("%s: %q reads %.20q, %v", form, name, got, err)
			}
		}
		if e := must[steward.FileEntry](t)(tr.Show("other/place/src/link")); string(e.Target) != "deep/er" {
			t.Errorf("%s: the link is %+v", form, e)
		}
		a, z := must[steward.FileEntry](t)(tr.Show("src/empty")), must[steward.FileEntry](t)(tr.Show("other/place/src/empty"))
		if a.Mode != z.Mode || a.ModifiedNS/1e9 != z.ModifiedNS/1e9 {
			t.Errorf("%s: %+v came as %+v", form, a, z)
		}
		if _, err := tr.Unpack(t.Context(), "cut", form, bytes.NewReader(packed.Bytes()[:packed.Len()/2])); kind(err) != steward.FileInvalid {
			t.Errorf("half a %s is %v", form, err)
		}
	}
	tr, _ := world(t, files)
	var packed bytes.Buffer
	if left, err := tr.Pack(t.Context(), "src", "tar", [][]byte{[]byte("empty"), []byte("ghost"), []byte("new\nline")}, &packed); err != nil || left != 1 {
		t.Errorf("some of them: %d left out, %v", left, err)
	}
	var names []string
	for r := tar.NewReader(&packed); ; {
		h, err := r.Next()
		if err != nil {
			break
		}
		names = append(names, h.Name)
	}
	if fmt.Sprintf("%q", names) != `["empty" "new\nline"]` {
		t.Errorf("some of them are %q", names)
	}
	if _, err := tr.Pack(t.Context(), "src", "tar", [][]byte{[]byte("../x")}, io.Discard); kind(err) != steward.FileBeyond {
		t.Errorf("a name that leads out is packed: %v", err)
	}
}

// Archives that lead out, or unfold without end, bring nothing there.
func TestHostileArchives(t *testing.T) {
	tr, in := world(t, nil)
	out := filepath.Join(filepath.Dir(in), "out")
	tarOf := func(headers ...tar.Header) []byte {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for _, h := range headers {
			h.Mode = 0o644
			if err := w.WriteHeader(&h); err != nil {
				t.Fatal(err)
			}
			if _, err := w.Write(make([]byte, h.Size)); err != nil {
				t.Fatal(err)
			}
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		return b.Bytes()
	}
	for what, c := range map[string]struct {
		archive []byte
		want    string
	}{
		"a name upwards":      {tarOf(tar.Header{Name: "../out/new", Size: 1}), steward.FileBeyond},
		"an absolute name":    {tarOf(tar.Header{Name: out + "/new", Size: 1}), steward.FileBeyond},
		"through its link":    {tarOf(tar.Header{Name: "l", Typeflag: tar.TypeSymlink, Linkname: out}, tar.Header{Name: "l/new", Size: 1}), steward.FileBeyond},
		"over its link":       {tarOf(tar.Header{Name: "m", Typeflag: tar.TypeSymlink, Linkname: out + "/kept"}, tar.Header{Name: "m", Size: 1}), ""},
		"a second name of it": {tarOf(tar.Header{Name: "n", Typeflag: tar.TypeLink, Linkname: "../out/kept"}), steward.FileBeyond},
		"by a folder's link":  {tarOf(tar.Header{Name: "o", Typeflag: tar.TypeSymlink, Linkname: out}, tar.Header{Name: "p", Typeflag: tar.TypeLink, Linkname: "o/kept"}), steward.FileBeyond},
		"a device":            {tarOf(tar.Header{Name: "q", Typeflag: tar.TypeChar}), ""},
		"rubbish":             {bytes.Repeat([]byte("rubbish "), 200), steward.FileInvalid},
	} {
		if _, err := tr.Unpack(t.Context(), "", "tar", bytes.NewReader(c.archive)); kind(err) != c.want {
			t.Errorf("%s: %q, not %q: %v", what, kind(err), c.want, err)
		}
	}
	if b, err := os.ReadFile(filepath.Join(out, "kept")); err != nil || string(b) != "kept" {
		t.Errorf("outside there is %q, %v", b, err)
	}
	if left, _ := os.ReadDir(out); len(left) != 1 {
		t.Errorf("outside there are %v", left)
	}
	// A zip whose table names one content a thousand times.
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	f := must[io.Writer](t)(w.Create("one"))
	if _, err := io.CopyN(f, zeros{}, 20<<20); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	many := overlapping(t, b.Bytes(), 1000)
	if _, err := tr.Unpack(t.Context(), "bomb", "zip", bytes.NewReader(many)); kind(err) != steward.FileTooMuch {
		t.Errorf("what unfolds a thousand times is %v", err)
	}
}

// overlapping is a zip archive whose table names its one content many times.
func overlapping(t *testing.T, archive []byte, times int) []byte {
	t.Helper()
	end := bytes.LastIndex(archive, []byte("PK\x05\x06"))
	at := bytes.Index(archive, []byte("PK\x01\x02"))
	entry := archive[at:end]
	out := slices.Clone(archive[:at])
	name := bytes.Index(entry, []byte("one"))
	for i := range times {
		e := slices.Clone(entry)
		copy(e[name:], fmt.Sprintf("%03d", i))
		out = append(out, e...)
	}
	tail := slices.Clone(archive[end:])
	le := func(p []byte, v int) {
		for i := range p {
			p[i] = byte(v >> (8 * i))
		}
	}
	le(tail[8:10], times)
	le(tail[10:12], times)
	le(tail[12:16], times*len(entry))
	le(tail[16:20], at)
	return append(out, tail...)
}

// Whatever an archive holds: nothing comes to stand outside, and what it costs goes
// with its size.
func FuzzUnpack(f *testing.F) {
	var packed bytes.Buffer
	w := tar.NewWriter(&packed)
	for _, h := range []tar.Header{{Name: "a/b", Size: 0, Mode: 0o644}, {Name: "l", Typeflag: tar.TypeSymlink, Linkname: "../out"}, {Name: "l/x", Mode: 0o644}} {
		if err := w.WriteHeader(&h); err != nil {
			f.Fatal(err)
		}
	}
	f.Add(packed.Bytes(), true)
	packed.Reset()
	z := zip.NewWriter(&packed)
	for _, name := range []string{"a/b", "../out/x"} {
		if _, err := z.Create(name); err != nil {
			f.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		f.Fatal(err)
	}
	f.Add(packed.Bytes(), false)
	f.Fuzz(func(t *testing.T, archive []byte, asTar bool) {
		tr, in := world(t, nil)
		form := map[bool]string{true: "tar", false: "zip"}[asTar]
		bound.Hold(t, 64, func() {
			_, _ = tr.Unpack(t.Context(), "", form, bytes.NewReader(archive)) // it may be no archive
		})
		if left, err := os.ReadDir(filepath.Join(filepath.Dir(in), "out")); err != nil || len(left) != 1 {
			t.Errorf("outside there are %v, %v", left, err)
		}
	})
}
