package feature

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yardbench/internal/bound"
	"yardbench/internal/core/definition"
)

// FuzzArchive: whatever an archive holds, nothing is written outside of where
// it is unpacked, and nothing but files and folders.
func FuzzArchive(f *testing.F) {
	add := func(headers ...tar.Header) {
		var plain, zipped bytes.Buffer
		w := tar.NewWriter(&plain)
		for _, h := range headers {
			if err := w.WriteHeader(&h); err != nil {
				f.Fatal(err)
			}
			_, _ = w.Write(bytes.Repeat([]byte("x"), int(h.Size)))
		}
		w.Close()
		z := gzip.NewWriter(&zipped)
		_, _ = z.Write(plain.Bytes())
		z.Close()
		f.Add(plain.Bytes())
		f.Add(zipped.Bytes())
	}
	add(tar.Header{Name: "install.sh", Mode: 0o755, Size: 3, Typeflag: tar.TypeReg}, tar.Header{Name: "a/b/c", Size: 1, Typeflag: tar.TypeReg})
	add(tar.Header{Name: "../out", Size: 1, Typeflag: tar.TypeReg})
	add(tar.Header{Name: "/etc/x", Size: 1, Typeflag: tar.TypeReg}, tar.Header{Name: "a/../../x", Size: 1, Typeflag: tar.TypeReg})
	add(tar.Header{Name: "l", Linkname: "/etc", Typeflag: tar.TypeSymlink}, tar.Header{Name: "l/x", Size: 1, Typeflag: tar.TypeReg})
	add(tar.Header{Name: "zeros", Size: 4 << 20, Typeflag: tar.TypeReg})
	f.Add([]byte{0x1f, 0x8b})
	f.Fuzz(func(t *testing.T, archive []byte) {
		if len(archive) > 1<<20 {
			return
		}
		dir := t.TempDir()
		k := NewKept(filepath.Join(dir, "kept"))
		if err := os.Mkdir(k.dir, 0o700); err != nil {
			t.Fatal(err)
		}
		digest := fmt.Sprintf("sha256:%x", sha256.Sum256(archive))
		if err := k.keep(digest, archive); err != nil {
			t.Fatal(err)
		}
		to := filepath.Join(dir, "to")
		if err := os.Mkdir(to, 0o700); err != nil {
			t.Fatal(err)
		}
		bound.Hold(t, 64, func() { _ = k.Unpack(t.Context(), definition.Feature{Ref: "x", Digest: digest}, to, nil) })
		err := filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() && (!d.Type().IsRegular() || !strings.HasPrefix(p, to+"/") && !strings.HasPrefix(p, filepath.Join(dir, "kept")+"/")) {
				t.Errorf("it leaves %s, %s", p, d.Type())
			}
			return err
		})
		if err != nil {
			t.Error(err)
		}
	})
}
