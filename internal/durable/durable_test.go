package durable

import (
	"os"
	"path/filepath"
	"testing"
)

func TestWrite(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "made")
	path := filepath.Join(dir, "key")
	for _, content := range []string{"first", "second, longer", ""} {
		if err := Write(path, []byte(content), 0o640); err != nil {
			t.Fatal(err)
		}
		got, err := os.ReadFile(path)
		info, serr := os.Stat(path)
		if err != nil || serr != nil || string(got) != content || info.Mode().Perm() != 0o640 {
			t.Errorf("it holds %q as %v: %v, %v", got, info, err, serr)
		}
	}
	// What cannot be put in place leaves the old one, and nothing beside it.
	if err := os.Mkdir(filepath.Join(dir, "full"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "full", "x"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := Write(filepath.Join(dir, "full"), []byte("x"), 0o600); err == nil {
		t.Error("a folder was written over")
	}
	if err := Write(filepath.Join(path, "under"), []byte("x"), 0o600); err == nil {
		t.Error("a file has become a folder")
	}
	left, err := os.ReadDir(dir)
	if err != nil || len(left) != 2 {
		t.Errorf("left are %v, %v", left, err)
	}
}
