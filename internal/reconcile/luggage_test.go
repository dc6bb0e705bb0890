package reconcile

import (
	"archive/tar"
	"bytes"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/luggage"
	"yardbench/internal/core/secret"
	"yardbench/internal/store"
	"yardbench/internal/vault"
)

// Whatever a workspace sends in the place of its owner's luggage is taken as paths and
// bytes, or not at all.
func TestHostileLuggage(t *testing.T) {
	v, err := vault.Open(filepath.Join(t.TempDir(), "key"), nil)
	if err != nil {
		t.Fatal(err)
	}
	now := time.Date(2026, 3, 14, 9, 0, 0, 0, time.UTC)
	l := &Luggage{vault: v, now: func() time.Time { return now }}
	w := store.Workspace{OwnerID: "p1"}
	pack := func(all ...tar.Header) []byte {
		var b bytes.Buffer
		to := tar.NewWriter(&b)
		for _, h := range all {
			content := h.Linkname
			if h.Typeflag == 0 {
				h.Typeflag = tar.TypeReg
			}
			if h.Typeflag == tar.TypeReg {
				h.Linkname, h.Size = "", int64(len(content))
			}
			if err := to.WriteHeader(&h); err != nil {
				t.Fatal(err)
			}
			if h.Typeflag == tar.TypeReg {
				if _, err := to.Write([]byte(content)); err != nil {
					t.Fatal(err)
				}
			}
		}
		to.Close()
		return b.Bytes()
	}
	ahead := now.Add(time.Hour)
	out := pack(tar.Header{Name: "../x"}, tar.Header{Name: "/etc/passwd"}, tar.Header{Name: "a/../b"}, tar.Header{Name: "link", Typeflag: tar.TypeSymlink, Linkname: "/etc/passwd"},
		tar.Header{Name: "large", Linkname: strings.Repeat("x", luggage.MostFileBytes+1)}, tar.Header{Name: "slip", Linkname: "it is aHVzaC1vZi10aGUtaG91c2U= there"},
		tar.Header{Name: "good", Mode: 0o4755, Linkname: "one", ModTime: ahead})
	told := []byte("rubbish\n{\"path\":\"../x\",\"why\":\"y\"}\n{\"path\":\"d/x\",\"why\":\"it \\u001b[31mis\\nso\"}\n" + strings.Repeat("{\"path\":\"d/x\"}\n", 10000))
	found, left, err := l.read(w, out, told[:90], secret.NewFinder(map[string]string{"SLIP": "hush-of-the-house"}))
	if err != nil || len(found) != 1 || found[0].Path != "good" || found[0].Mode != 0o755 || !found[0].ChangedAt.Equal(now) {
		t.Fatalf("it was taken as %+v, %v", found, err)
	}
	if content, err := v.Open(found[0].sealed, LuggagePlace("p1", "good")...); err != nil || content != "one" {
		t.Errorf("it holds %q, %v", content, err)
	}
	if len(left) != 2 || !strings.Contains(left["slip"], "the secret SLIP") || strings.ContainsAny(left["d/x"], "\x1b\n") {
		t.Errorf("left out: %q", left)
	}
	for _, rubbish := range [][]byte{[]byte(strings.Repeat("x", 2000)), pack(tar.Header{Name: "good", Linkname: "one"})[:513]} {
		if found, _, err := l.read(w, rubbish, nil, secret.NewFinder(nil)); err == nil || len(found) > 0 {
			t.Errorf("%d are taken of rubbish", len(found))
		}
	}
	if found, left, err := l.read(w, nil, told, secret.NewFinder(nil)); err != nil || len(found) > 0 || len(left) > maxLeft {
		t.Errorf("%v, %d left, %v", found, len(left), err)
	}
}
