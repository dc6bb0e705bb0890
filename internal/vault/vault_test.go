package vault

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A sealed value opens for its own place only, with its own key file only,
// and its key file is its owner's alone.
func TestSealedValuesStayInTheirPlace(t *testing.T) {
	path := filepath.Join(t.TempDir(), "keys", "sealing.json")
	open := func(path string) *Vault {
		t.Helper()
		v, err := Open(path, nil)
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
	if _, err := Open(path, nil); err == nil {
		t.Error("a damaged key file is taken, or a new key made in its place")
	}
}

// Another key seals from its making on; what older ones sealed opens until they are
// retired, in another process too.
func TestRotate(t *testing.T) {
	path := filepath.Join(t.TempDir(), "sealing.json")
	v, err := Open(path, nil)
	if err != nil {
		t.Fatal(err)
	}
	first := v.Keys()[0]
	old, err := v.Seal("tide-key", "secret", "ingrid")
	if err != nil || By(old) != first.ID || !first.Current {
		t.Fatalf("%v, by %x of %+v", err, By(old), first)
	}
	next, err := v.Rotate()
	if err != nil || len(v.Keys()) != 2 || v.Keys()[1] != next {
		t.Fatalf("%+v %+v %v", next, v.Keys(), err)
	}
	now, err := v.Seal("tide-key", "secret", "ingrid")
	if err != nil || By(now) != next.ID {
		t.Errorf("%v, by %x", err, By(now))
	}
	again, err := Open(path, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, sealed := range [][]byte{old, now} {
		if got, err := again.Open(sealed, "secret", "ingrid"); err != nil || got != "tide-key" {
			t.Errorf("it opens as %q, %v", got, err)
		}
	}
	if err := v.Retire(next.ID); err == nil {
		t.Error("the key that seals now is retired")
	}
	if err := v.Retire(first.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := v.Open(old, "secret", "ingrid"); err == nil {
		t.Error("what a retired key sealed opens")
	}
	if got, err := v.Open(now, "secret", "ingrid"); err != nil || got != "tide-key" {
		t.Errorf("it opens as %q, %v", got, err)
	}
	if By(nil) != 0 || By([]byte{1}) != 0 {
		t.Error("what nobody sealed was sealed")
	}
}

// A key service guards the file: without it, or with another, it does not open.
func TestKeyService(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "sealing.json")
	v, err := Open(path, nil)
	if err != nil {
		t.Fatal(err)
	}
	sealed, err := v.Seal("tide-key", "x")
	if err != nil {
		t.Fatal(err)
	}
	// One that turns the text around, which shows who asks what.
	service := Command{"sh", "-c", `printf "%s\n" "$0" >> "` + dir + `/asked"; read -r line; printf "%s" "$line" | base64 -d | tr 'A-Za-z0-9' 'N-ZA-Mn-za-m5-90-4' | base64 | tr -d '\n'`}
	guarded, err := Open(path, service)
	if err != nil {
		t.Fatal(err)
	}
	content, err := os.ReadFile(path)
	if err != nil || !bytes.Contains(content, []byte("encryptedKeyset")) {
		t.Fatalf("the file is %s, %v", content, err)
	}
	if _, err := guarded.Rotate(); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(path, nil); err == nil || !strings.Contains(err.Error(), "--key-service") {
		t.Errorf("without it: %v", err)
	}
	if _, err := Open(path, Command{"false"}); err == nil || !strings.Contains(err.Error(), "the key service (false open)") {
		t.Errorf("with one that fails: %v", err)
	}
	if _, err := Open(path, Command{"echo", "no base64!"}); err == nil {
		t.Error("with one that says rubbish")
	}
	again, err := Open(path, service)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := again.Open(sealed, "x"); err != nil || got != "tide-key" || len(again.Keys()) != 2 {
		t.Errorf("%q, %v, by %v", got, err, again.Keys())
	}
	if asked, err := os.ReadFile(filepath.Join(dir, "asked")); err != nil || strings.Join(strings.Fields(string(asked)), " ") != "seal seal open" {
		t.Errorf("it was asked %q, %v", asked, err)
	}
}
