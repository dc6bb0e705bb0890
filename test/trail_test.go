package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// The machine is gone, and with it all but the second place that followed the records:
// they are had from there as they were seconds before, keys and all, or at a moment; while
// the second place is away the service goes on and says so.
func TestMachineGoneAndTheTrailIsThere(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.kill()
	trail, phrase := filepath.Join(w.dir, "second", "trail"), filepath.Join(w.dir, "phrase")
	if err := os.WriteFile(phrase, []byte("four herring gulls\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	w.must(w.operate("serve", "--data", w.data(), "--listen", "127.0.0.1:0", "--trail", w.data()+"/trail"), 1, "in the data directory itself")
	w.must(w.operate("config", "check", "--trail-passphrase-file", phrase), 2, "--trail")
	w.must(w.operate("config", "check", "--trail", trail), 0, "keep the data directory's keys/ apart")
	w.more = []string{"--trail", trail, "--trail-passphrase-file", phrase, "--take-over"}
	w.start()
	w.must(w.as("ingrid", "the-first-tide-key", "secret", "put", "TIDE_KEY", "--everywhere"), 0)
	for end := time.Now().Add(slack * 10 * time.Second); strings.Count(w.operate("backup", "from-trail", trail).out, "\n") < 2; time.Sleep(100 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("the trail has not begun")
		}
	}
	before := time.Now().UTC().Format(time.RFC3339Nano)
	w.must(w.as("ingrid", "", "launch", "deck-log", "--name", "pier"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "pier", "--", "sh", "-c", "echo of pier > only-here"), 0)
	w.must(w.as("ingrid", "", "stop", "pier"), 0, "is stopped")
	w.must(w.as("astrid", "", "keys", "rotate", "--at-once"), 0)
	w.must(w.as("ingrid", "the-second-tide-key", "secret", "put", "TIDE_KEY", "--everywhere"), 0)

	// The second place is away, and comes back.
	if err := os.Rename(trail, trail+"-away"); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(trail, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	w.must(w.as("ingrid", "", "secret", "list"), 0, "TIDE_KEY")
	w.must(w.as("ingrid", "the-third-tide-key", "secret", "put", "TIDE_KEY", "--everywhere"), 0)
	for end := time.Now().Add(slack * 10 * time.Second); !strings.Contains(w.output.String(), "the trail does not follow"); time.Sleep(100 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("nobody is told that the trail is behind")
		}
	}
	if err := os.Remove(trail); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(trail+"-away", trail); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(slack * 10 * time.Second); !strings.Contains(w.output.String(), "follows the records again"); time.Sleep(100 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("the trail does not catch up")
		}
	}

	w.kill()
	if err := os.RemoveAll(w.data()); err != nil {
		t.Fatal(err)
	}
	kept, then := filepath.Join(w.dir, "kept"), filepath.Join(w.dir, "then")
	w.must(w.operate("backup", "from-trail", trail), 0, "FROM", "MiB")
	w.must(w.operate("backup", "from-trail", trail, "--at", before), 2, "FOLDER")
	w.must(w.operate("backup", "from-trail", trail, then, "--at", "yesterday"), 2, "no moment")
	w.must(w.operate("backup", "from-trail", trail, then, "--at", "2020-03-14T09:26:00Z"), 1, "it goes from")
	w.must(w.operate("backup", "from-trail", trail, then, "--at", before), 0, "as of")
	w.must(w.operate("backup", "verify", then, "--passphrase-file", phrase), 0, "it is whole", "with 0 workspaces", "the keys open all")
	w.must(w.operate("backup", "from-trail", trail, kept), 0, "check it with")
	w.must(w.operate("backup", "verify", kept, "--passphrase-file", phrase), 0, "it is whole", "with 1 workspaces", "the keys open all")
	w.place = "elsewhere"
	w.must(w.operate("backup", "restore", kept, "--data", w.data(), "--passphrase-file", phrase), 0, "--take-over")
	clear(w.config)
	w.start() // and it is followed anew, in the same place
	w.must(w.as("ingrid", "", "start", "pier"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "pier", "--", "sh", "-c", "cat only-here; echo key $TIDE_KEY"), 0, "of pier", "key the-third-tide-key")
	w.must(w.operate("backup", "from-trail", trail, filepath.Join(w.dir, "again")), 0)
}
