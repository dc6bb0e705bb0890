package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yardbench/wire"
)

// operate runs the program by itself, as an operator on the service's machine would.
func (w *world) operate(args ...string) result {
	w.t.Helper()
	cmd := exec.CommandContext(w.t.Context(), os.Getenv("YARDBENCH_TEST_BINARY"), args...)
	var out, errs strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &errs
	_ = cmd.Run() // its exit code says it
	return result{code: cmd.ProcessState.ExitCode(), out: out.String(), errors: errs.String()}
}

// The machine's disk with the service's data is gone. A backup, made while people
// worked, is put elsewhere on the same engine; everybody goes on, with their files; what
// came after it is lost to the records, named, and taken from nobody.
func TestRestoredElsewhere(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.kill()
	w.more = []string{} // bounded disks lie in the data directory, and would be gone with it
	w.start()
	w.must(w.as("ingrid", "", "launch", "deck-log", "--name", "pier"), 0, "is ready")
	w.must(w.as("ingrid", "", "launch", "deck-log", "--name", "quay"), 0, "is ready")
	for _, name := range []string{"pier", "quay"} {
		w.must(w.as("ingrid", "", "run", name, "--", "sh", "-c", "echo of "+name+" > only-here"), 0)
	}
	w.must(w.as("ingrid", "", "stop", "pier"), 0, "is stopped")
	w.must(w.as("ingrid", "the-first-tide-key", "secret", "put", "TIDE_KEY", "--everywhere"), 0)

	phrase, kept := filepath.Join(w.dir, "phrase"), filepath.Join(w.dir, "kept")
	if err := os.WriteFile(phrase, []byte("four herring gulls\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	w.must(w.operate("backup", "make", kept, "--data", w.data(), "--passphrase-file", phrase), 0, "its keys sealed by the passphrase")
	w.must(w.as("ingrid", "the-second-tide-key", "secret", "put", "TIDE_KEY", "--everywhere"), 0)
	for _, name := range []string{"late", "later"} {
		w.must(w.as("ingrid", "", "launch", "deck-log", "--name", name), 0, "is ready")
		w.must(w.as("ingrid", "", "run", name, "--", "sh", "-c", "echo of "+name+" > only-here"), 0)
	}
	installation := w.installation()
	before := w.leftovers(installation)

	w.kill()
	if err := os.RemoveAll(w.data()); err != nil {
		t.Fatal(err)
	}
	w.must(w.operate("backup", "verify", kept, "--passphrase-file", phrase), 0, "it is whole", "the keys open all")
	w.place = "elsewhere"
	w.must(w.operate("backup", "restore", kept, "--data", w.data(), "--passphrase-file", phrase), 0, "--take-over", "sign-ins and links were ended")
	clear(w.config) // everybody signs in anew
	w.more = []string{"--take-over"}
	w.start()

	w.must(w.as("ingrid", "", "start", "pier"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "pier", "--", "sh", "-c", "cat only-here; echo key $TIDE_KEY; cat made 2>/dev/null; true"), 0, "of pier", "key the-first-tide-key")
	c := w.client("ingrid")
	// What ran went on, and cannot be entered: that is said, with the way back.
	w.until(c, "quay", 30*time.Second, func(ws wire.Workspace) bool {
		for _, x := range ws.Conditions {
			if x.Kind == "steward away" && strings.Contains(x.Reason, "stop and start it") {
				return true
			}
		}
		return false
	})
	w.must(w.as("ingrid", "", "stop", "quay"), 0, "is stopped")
	w.must(w.as("ingrid", "", "start", "quay"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "quay", "--", "cat", "only-here"), 0, "of quay")

	// Nobody took away what the records do not know.
	w.must(w.as("ingrid", "", "show", "late"), 3)
	now := w.leftovers(installation)
	for line := range strings.Lines(before) {
		if kind, name, _ := strings.Cut(strings.TrimSpace(line), " "); kind == "volume" && !strings.Contains(now, name) {
			t.Errorf("the %s %s was taken away; there is\n%s", kind, name, now)
		}
	}
	if strings.Count(now, "container ") != 4 {
		t.Errorf("of four containers there are\n%s", now)
	}
	w.must(w.as("astrid", "", "journal", "list", "--kind", "yard.set-back"), 0, "yard.set-back")
	w.must(w.as("astrid", "", "journal", "list", "--kind", "records.restored"), 0, "records.restored")
	w.must(w.operate("backup", "verify", kept), 0, "was not tried")
	w.quarantine()
}

// quarantine has an operator decide what becomes of ingrid's late and later, which no record
// knows: of the first she gets the files back, the second stays for a while, and goes.
func (w *world) quarantine() {
	w.t.Helper()
	astrid := w.client("astrid")
	all, err := astrid.Quarantine.List(w.t.Context())
	if err != nil || len(all) != 2 {
		w.t.Fatalf("no record knows %+v, %v", all, err)
	}
	ids := map[string]string{}
	for _, s := range all {
		if ids[s.Name] = s.ID; s.Owner != "ingrid" || s.Repository != "deck-log" || s.Branch != "main" || s.Size == "" || !s.Files || !s.Runs || s.MadeAt == nil || time.Since(*s.MadeAt) > time.Hour {
			w.t.Errorf("of one it is told %+v", s)
		}
	}
	late, later := ids["late"], ids["later"]
	w.must(w.as("astrid", "", "quarantine", "list"), 0, late, later, "files, it runs")
	w.must(w.as("astrid", "", "doctor"), 0, "2 workspaces that no record knows are in the yard", "yardbench quarantine list")
	w.must(w.as("ingrid", "", "quarantine", "list"), 4)
	w.must(w.as("ingrid", "", "quarantine", "give", late), 4)
	w.must(w.as("astrid", "", "quarantine", "give", late, "--name", "pier"), 4, "ingrid has a workspace “pier” already")
	w.must(w.as("astrid", "", "quarantine", "give", late, "--to", "nobody"), 3)
	w.must(w.as("astrid", "", "quarantine", "keep", later), 4, "the reason is missing")
	w.must(w.as("astrid", "", "quarantine", "keep", later, "--why", "ingrid is asked"), 0, "it stays")
	w.must(w.as("astrid", "", "quarantine", "give", late), 0, "it is late.ingrid now, of deck-log at main")
	w.must(w.as("astrid", "", "quarantine", "give", late), 3, "see what there is")
	w.must(w.as("ingrid", "", "wait", "late", "--until", "stopped"), 0)
	w.must(w.as("ingrid", "", "remove", "late", "--yes"), 4, "--discard") // nobody knows what work is in it
	w.must(w.as("ingrid", "", "stop", "quay"), 0, "is stopped")
	w.must(w.as("ingrid", "", "start", "late"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "late", "--", "sh", "-c", "cat only-here; git status --short"), 0, "of late", "?? only-here")
	w.must(w.as("ingrid", "", "journal", "list", "--workspace", "late"), 0, "quarantine.given")
	// All is decided: the next start takes nothing for granted any more, and leaves what was kept.
	w.kill()
	w.more = []string{}
	w.start()
	w.must(w.as("ingrid", "", "stop", "late"), 0, "is stopped")
	w.must(w.as("astrid", "", "quarantine", "list"), 0, later, "it runs", "ingrid is asked (astrid")
	w.must(w.as("astrid", "", "quarantine", "remove", later, "--yes"), 0, "it is gone")
	w.must(w.as("astrid", "", "quarantine", "list"), 0, "the records know everything")
	w.must(w.as("astrid", "", "journal", "list", "--kind", "quarantine"), 0, "quarantine.removed", "quarantine.kept")
	if now := w.leftovers(w.installation()); strings.Contains(now, later) || !strings.Contains(now, late) {
		w.t.Errorf("there is\n%s", now)
	}
}

// A data directory that was moved while the service was down is the same one: what runs
// goes on, and what is started is made anew at the new place with its files, on a
// bounded disk too.
func TestMovedDataDirectory(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.register("mast", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew", "onCreateCommand": "sudo -n true 2>/dev/null; echo set up >> /tmp/set-up"}`})
	w.must(w.as("ingrid", "", "launch", "mast", "--name", "fore"), 0, "is ready")
	w.must(w.as("ingrid", "", "launch", "mast", "--name", "aft"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "fore", "--", "sh", "-c", "echo of the fore > only-here"), 0)
	w.must(w.as("ingrid", "", "stop", "fore"), 0, "is stopped")
	w.kill()
	was := w.data()
	w.place = "moved"
	if err := os.Rename(was, w.data()); err != nil {
		t.Fatal(err)
	}
	w.start()
	w.must(w.as("ingrid", "", "run", "aft", "--", "echo", "goes on"), 0, "goes on")
	w.must(w.as("ingrid", "", "start", "fore"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "fore", "--", "sh", "-c", "cat only-here /tmp/set-up"), 0, "of the fore\nset up")
	w.must(w.as("ingrid", "", "logs", "fore"), 0, "it is made anew, with its files")
	w.must(w.as("ingrid", "", "stop", "aft"), 0, "is stopped")
	w.must(w.as("ingrid", "", "start", "aft"), 0, "is ready")
	// The same place by another name is no other place: nothing is made anew.
	w.must(w.as("ingrid", "", "run", "fore", "--", "touch", "/tmp/kept"), 0)
	w.must(w.as("ingrid", "", "stop", "fore"), 0, "is stopped")
	w.kill()
	is := w.data()
	w.place = "linked"
	if err := os.Symlink(is, w.data()); err != nil {
		t.Fatal(err)
	}
	w.start()
	w.must(w.as("ingrid", "", "start", "fore"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "fore", "--", "sh", "-c", "ls /tmp/kept; cat only-here"), 0, "/tmp/kept", "of the fore")
}
