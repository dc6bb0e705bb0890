package test

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/pressly/goose/v3"
)

// The records are of the release before, and people are at work: a terminal, a command and
// a forward are open as this release is put in its place. All of them come back, a copy of
// the records as they were is left, and the release before refuses what this one wrote.
func TestUpgradeWhilePeopleWork(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	w.must(w.as("ingrid", "", "launch", "deck-log", "--name", "pier"), 0, "is ready")
	w.must(w.as("ingrid", "", "stop", "pier"), 0)
	end := func() { // and the records are as the release before has them
		t.Helper()
		if err := w.service.Process.Signal(syscall.SIGTERM); err != nil {
			t.Fatal(err)
		}
		if err := w.service.Wait(); err != nil {
			t.Fatalf("the service ends with %v\n%s", err, w.output)
		}
	}
	records := filepath.Join(w.data(), "yardbench.db")
	back := func() (newest int64) {
		t.Helper()
		db := openDatabase(t, records)
		defer db.Close()
		forms, err := goose.NewProvider(goose.DialectSQLite3, db, os.DirFS("../internal/store/migrations"))
		if err != nil {
			t.Fatal(err)
		}
		if newest, err = forms.GetDBVersion(t.Context()); err != nil {
			t.Fatal(err)
		}
		if _, err := forms.DownTo(t.Context(), newest-1); err != nil {
			t.Fatal(err)
		}
		return newest
	}
	enter := w.command("ingrid", "", "enter", "quay")
	enter.Stdin = nil
	f, err := pty.StartWithSize(enter.Cmd, &pty.Winsize{Cols: 91, Rows: 33})
	if err != nil {
		t.Fatal(err)
	}
	screen := &syncBuffer{}
	go func() { _, _ = io.Copy(screen, f) }() // it ends with the command
	says := func(b *syncBuffer, what string) {
		t.Helper()
		for end := time.Now().Add(slack * 20 * time.Second); !strings.Contains(b.String(), what); time.Sleep(20 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("it does not say %q:\n%s\n--- service\n%s", what, b, w.output)
			}
		}
	}
	fmt.Fprint(f, "X=of-before; echo begun-$((1+1))\n")
	says(screen, "begun-2")
	run := w.command("ingrid", "", "run", "quay", "--", "sh", "-c", "python3 -m http.server 8000 >/dev/null 2>&1 & i=0; until [ -e go ]; do sleep 0.1; done; echo over; exit 9")
	out := &syncBuffer{}
	run.Stdout = out
	if err := run.Start(); err != nil {
		t.Fatal(err)
	}
	here := freePort(t)
	forward := w.command("ingrid", "", "forward", "quay", fmt.Sprint("8000:", here))
	if err := forward.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = forward.Process.Kill(); _ = forward.Wait() })
	asked := func() {
		t.Helper()
		var last error
		for end := time.Now().Add(slack * 20 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
			res, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/", here))
			if err == nil {
				res.Body.Close()
				if res.StatusCode == 200 {
					return
				}
			}
			last = err
		}
		t.Fatalf("nothing comes by the forward: %v", last)
	}
	asked()
	end()
	newest := back()
	w.start()
	if copied, _ := filepath.Glob(fmt.Sprintf("%s.form-%d", records, newest-1)); len(copied) != 1 {
		t.Error("no copy of the records of before is left beside them")
	}
	asked()
	fmt.Fprint(f, "echo still-$X; exit 6\n")
	says(screen, "still-of-before")
	_ = enter.Wait() // its exit code says it
	w.must(w.as("ingrid", "", "run", "quay", "--", "touch", "go"), 0)
	_ = run.Wait()
	if enter.ProcessState.ExitCode() != 6 || run.ProcessState.ExitCode() != 9 || out.String() != "over\n" {
		t.Errorf("the terminal ended with %d, the command with %d, saying %q", enter.ProcessState.ExitCode(), run.ProcessState.ExitCode(), out)
	}
	w.must(w.as("ingrid", "", "start", "pier"), 0, "is ready")
	w.must(w.as("astrid", "", "journal", "verify"), 0)
	// The way back: the release before does not open these, and says what it would.
	end()
	db := openDatabase(t, records)
	defer db.Close()
	if _, err := db.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (?, 1)", newest+1); err != nil {
		t.Fatal(err)
	}
	w.must(w.command("astrid", "", "serve", "--data", w.data(), "--engine", w.engine, "--listen", "127.0.0.1:0", "--ssh-listen", "").run(), 1, fmt.Sprintf("this release knows form %d at most", newest), "go back to the copy")
	if _, err := db.Exec("DELETE FROM goose_db_version WHERE version_id = ?", newest+1); err != nil {
		t.Fatal(err)
	}
	w.start()
}
