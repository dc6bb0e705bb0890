package vault

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
)

// A sealed value opens for its own place only, with its own key file only,
// and its key file is its owner's alone.
func TestSealedValuesStayInTheirPlace(t *testing.T) {
	path := filepath.Join(t.TempDir(), "keys", "sealing.json")
	open := func(path string) *Vault {
		t.Helper()
		v, err := Open(path)
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	v := open(path)
	sealed, err := v.Seal("tide-key", "secret", "ingrid", "KEY", "1")
	if err != nil || bytes.Contains(sealed, []byte("tide")) {
		t.Fatalf("it is sealed as %q, %v", sealed, err)
	}
	if got, err := open(path).Open(sealed, "secret", "ingrid", "KEY", "1"); err != nil || got != "tide-key" {
		t.Errorf("after a restart it opens as %q, %v", got, err)
	}
	for _, place := range [][]string{{"secret", "mats", "KEY", "1"}, {"secret", "ingrid", "KEY", "2"}, {"secret", "ingrid", "KEY"}, {}} {
		if got, err := v.Open(sealed, place...); err == nil {
			t.Errorf("at %v it opens as %q", place, got)
		}
	}
	if got, err := open(filepath.Join(t.TempDir(), "other.json")).Open(sealed, "secret", "ingrid", "KEY", "1"); err == nil {
		t.Errorf("with another key it opens as %q", got)
	}
	sealed[len(sealed)/2] ^= 1
	if _, err := v.Open(sealed, "secret", "ingrid", "KEY", "1"); err == nil {
		t.Error("a changed one opens")
	}
	if st, err := os.Stat(path); err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("the key file is %v, %v", st.Mode(), err)
	}
	if err := os.WriteFile(path, []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(path); err == nil {
		t.Error("a damaged key file is taken, or a new key made in its place")
	}
}
