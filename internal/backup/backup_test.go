package backup

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/policy"
	"yardbench/internal/core/secret"
	"yardbench/internal/session"
	"yardbench/internal/store"
	"yardbench/internal/store/blank"
	"yardbench/internal/vault"
)

const phrase = "four herring gulls"

func TestMain(m *testing.M) {
	workFactor = 10
	os.Exit(m.Run())
}

// inUse is a data directory with a secret in it that somebody goes on changing.
func inUse(t *testing.T) (dir string) {
	t.Helper()
	dir = filepath.Join(t.TempDir(), "data")
	v, err := vault.Open(filepath.Join(dir, "keys", "sealing.json"), nil)
	if err != nil {
		t.Fatal(err)
	}
	st := blank.Open(t, filepath.Join(dir, "yardbench.db"), time.Now)
	ctx := context.WithoutCancel(t.Context()) // it is written on until the test is over
	put := func(n int) error {
		return st.Write(ctx, func(tx *store.Tx) error {
			if n == 0 {
				if err := tx.AddPerson(ctx, store.Person{ID: "p1", Name: "ingrid", Role: policy.Developer}); err != nil {
					return err
				}
				if err := tx.SetMeta(ctx, "installation", "quayside"); err != nil {
					return err
				}
				for i, door := range []string{"console", "cli", "token"} {
					if err := tx.AddToken(ctx, store.Token{ID: door, PersonID: "p1", Door: door, Hash: []byte{byte(i)}, ExpiresAt: time.Now().Add(time.Hour)}); err != nil {
						return err
					}
				}
			}
			s := store.Secret{Secret: secret.Secret{Level: secret.OfPerson, Name: fmt.Sprintf("KEY_%d", n), Form: secret.Variable, Everywhere: true}, SubjectID: "p1", UpdatedBy: "p1", UpdatedAt: time.Now()}
			_, err := tx.PutSecret(ctx, s, nil, func(version int) ([]byte, error) {
				return v.Seal("of the quay", session.SecretPlace(s.Level, s.SubjectID, s.Name, version)...)
			})
			return err
		})
	}
	if err := put(0); err != nil {
		t.Fatal(err)
	}
	done, ended := make(chan struct{}), make(chan error, 1)
	go func() {
		for n := 1; ; n++ {
			select {
			case <-done:
				ended <- nil
				return
			default:
			}
			if err := put(n); err != nil {
				ended <- err
				return
			}
		}
	}()
	t.Cleanup(func() {
		close(done)
		if err := <-ended; err != nil {
			t.Error(err)
		}
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	for name, text := range map[string]string{"logs/w1/1.log": "built", "recordings/r1.cast": "{}", "mirrors/r/HEAD": "ref", "keys/journal.pem": "a key", "keys/.new-17": "half a key"} {
		at := filepath.Join(dir, name)
		err := os.MkdirAll(filepath.Dir(at), 0o700)
		if err == nil {
			err = os.WriteFile(at, []byte(text), 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// What is in use is copied whole, found to be so, and put back.
func TestThereAndBack(t *testing.T) {
	dir, ctx := inUse(t), t.Context()
	if at, err := Last(dir); err != nil || !at.IsZero() {
		t.Errorf("before any the last was made at %v, %v", at, err)
	}
	to := filepath.Join(t.TempDir(), "kept", "monday")
	m, err := Make(ctx, dir, to, phrase, "v1", time.Now())
	if err != nil || m.Installation != "quayside" || !m.Keys || m.RecordsForm < 27 {
		t.Fatalf("%+v, %v", m, err)
	}
	if at, err := Last(dir); err != nil || !at.Equal(m.MadeAt) {
		t.Errorf("the last was made at %v, %v", at, err)
	}
	for _, f := range m.Files {
		if st, err := os.Stat(filepath.Join(to, f.Path)); err != nil || st.Mode().Perm() != 0o600 || strings.HasPrefix(f.Path, "mirrors") || strings.HasPrefix(f.Path, "keys/") {
			t.Errorf("%s is in it: %v, %v", f.Path, st, err)
		}
		if content, err := os.ReadFile(filepath.Join(to, f.Path)); err != nil || strings.Contains(string(content), "a key") {
			t.Errorf("%s holds a key, %v", f.Path, err)
		}
	}
	f, err := Verify(ctx, to, Keys{Passphrase: phrase})
	if err != nil || f.Opened < 1 || f.People != 1 {
		t.Fatalf("%+v, %v", f, err)
	}
	if f, err := Verify(ctx, to, Keys{}); err != nil || f.Opened != 0 {
		t.Errorf("without keys %+v, %v", f, err)
	}
	back := filepath.Join(t.TempDir(), "back")
	if f, err := Restore(ctx, to, back, Keys{Passphrase: phrase}); err != nil || f.Ended != 2 || f.Hold != 1 {
		t.Fatalf("%+v, %v", f, err)
	}
	for name, want := range map[string]string{"logs/w1/1.log": "built", "recordings/r1.cast": "{}", "keys/journal.pem": "a key"} {
		if got, err := os.ReadFile(filepath.Join(back, name)); err != nil || string(got) != want {
			t.Errorf("%s is %q, %v", name, got, err)
		}
	}
	if _, err := os.Stat(filepath.Join(back, "keys", ".new-17")); err == nil {
		t.Error("half a key was put back")
	}
	if left, _ := filepath.Glob(filepath.Join(filepath.Dir(to), ".*")); len(left) > 0 {
		t.Errorf("unfinished ones are left: %v", left)
	}
	// Keys that are kept apart.
	apart := filepath.Join(t.TempDir(), "apart")
	if m, err := Make(ctx, dir, apart, "", "v1", time.Now()); err != nil || m.Keys {
		t.Fatalf("%+v, %v", m, err)
	}
	if f, err := Restore(ctx, apart, filepath.Join(t.TempDir(), "x"), Keys{Folder: filepath.Join(dir, "keys")}); err != nil || f.Opened < 1 {
		t.Errorf("with keys kept apart %+v, %v", f, err)
	}
}

// What is damaged is told, each for what it is, and nothing is put back.
func TestWhatIsNoBackup(t *testing.T) {
	dir, ctx := inUse(t), t.Context()
	good := filepath.Join(t.TempDir(), "good")
	if _, err := Make(ctx, dir, good, phrase, "v1", time.Now()); err != nil {
		t.Fatal(err)
	}
	others := filepath.Join(t.TempDir(), "others")
	if _, err := vault.Open(filepath.Join(others, "sealing.json"), nil); err != nil {
		t.Fatal(err)
	}
	write := func(name, text string) func(string) error {
		return func(at string) error { return os.WriteFile(filepath.Join(at, name), []byte(text), 0o600) }
	}
	same := func(string) error { return nil }
	for says, c := range map[string]struct {
		harm func(at string) error
		keys Keys
	}{
		"logs/w1/1.log is not what it was":      {write("logs/w1/1.log", "other"), Keys{Passphrase: phrase}},
		"recordings/r1.cast is missing":         {func(at string) error { return os.Remove(filepath.Join(at, "recordings/r1.cast")) }, Keys{Passphrase: phrase}},
		"logs/more is none of it":               {write("logs/more", ""), Keys{Passphrase: phrase}},
		"is no backup":                          {func(at string) error { return os.Remove(filepath.Join(at, manifestFile)) }, Keys{Passphrase: phrase}},
		"cannot be read":                        {write(manifestFile, "{"), Keys{Passphrase: phrase}},
		"form 9 and this release knows 1":       {write(manifestFile, `{"form": 9}`), Keys{Passphrase: phrase}},
		"has no records.db":                     {func(at string) error { return bare(at) }, Keys{Passphrase: phrase}},
		"does not open the keys of this backup": {same, Keys{Passphrase: "three herring gulls"}},
		"are not those of this backup":          {same, Keys{Folder: others}},
		"is not there":                          {same, Keys{Folder: t.TempDir()}},
	} {
		at := filepath.Join(t.TempDir(), "harmed")
		if err := os.CopyFS(at, os.DirFS(good)); err != nil {
			t.Fatal(err)
		}
		if err := c.harm(at); err != nil {
			t.Fatal(err)
		}
		if _, err := Verify(ctx, at, c.keys); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("it does not say %q but %v", says, err)
		}
		to := filepath.Join(t.TempDir(), "to")
		if _, err := Restore(ctx, at, to, c.keys); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("as it is put back it does not say %q but %v", says, err)
		}
		if _, err := os.Stat(to); err == nil {
			t.Errorf("%q: something was put back", says)
		}
	}
	if _, err := Restore(ctx, good, dir, Keys{Passphrase: phrase}); err == nil || !strings.Contains(err.Error(), "is not empty") {
		t.Errorf("over other records it says %v", err)
	}
	if _, err := Restore(ctx, good, filepath.Join(t.TempDir(), "x"), Keys{}); err == nil || !strings.Contains(err.Error(), "without the keys") {
		t.Errorf("without keys it says %v", err)
	}
	if _, err := Make(ctx, dir, filepath.Join(dir, "logs", "kept"), phrase, "v1", time.Now()); err == nil || !strings.Contains(err.Error(), "data directory itself") {
		t.Errorf("within the data directory it says %v", err)
	}
	if _, err := Make(ctx, dir, good, phrase, "v1", time.Now()); err == nil || !strings.Contains(err.Error(), "is there already") {
		t.Errorf("over another it says %v", err)
	}
	if _, err := Make(ctx, t.TempDir(), filepath.Join(t.TempDir(), "x"), phrase, "v1", time.Now()); err == nil || !strings.Contains(err.Error(), "no data directory") {
		t.Errorf("of nothing it says %v", err)
	}
}

// bare leaves a backup of nothing.
func bare(at string) error {
	entries, err := os.ReadDir(at)
	for _, e := range entries {
		if err == nil {
			err = os.RemoveAll(filepath.Join(at, e.Name()))
		}
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(at, manifestFile), []byte(`{"form": 1, "files": []}`), 0o600)
	}
	return err
}
