package test

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/google/shlex"
)

// handbook are the command lines of ours in the blocks of the handbook, in its order.
func handbook(t *testing.T) (lines []string) {
	t.Helper()
	text, err := os.ReadFile("../docs/operating.md")
	if err != nil {
		t.Fatal(err)
	}
	ours := regexp.MustCompile(`^(?:[\d* ]+\s+root\s+|sudo -u yardbench )?yardbench (.+)$`)
	fenced := false
	for line := range strings.Lines(strings.ReplaceAll(string(text), "\\\n", " ")) {
		if strings.HasPrefix(line, "```") {
			fenced = !fenced
		}
		if m := ours.FindStringSubmatch(strings.TrimSpace(line)); fenced && m != nil {
			lines = append(lines, m[1])
		}
	}
	return lines
}

// Each command in a block of the handbook is run, from the installation to its end, as it
// stands there: with other places, addresses, times and numbers alone.
func TestTheHandbookIsRun(t *testing.T) {
	t.Parallel()
	w := &world{t: t, engine: needEngine(t), config: map[string]string{}}
	dir, err := os.MkdirTemp("", "ybt-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	w.dir, w.bare = dir, filepath.Join(dir, "git")
	w.hostGit()
	places := map[string]string{
		"/etc/yardbench/passphrase": filepath.Join(dir, "phrase"), "/etc/yardbench/yardbench.yaml": filepath.Join(dir, "yardbench.yaml"), "/backups/": filepath.Join(dir, "kept") + "/", "/mnt/second/": filepath.Join(dir, "second") + "/",
		"/var/lib/yardbench": filepath.Join(dir, "first"), "unix:///var/run/docker.sock": w.engine, "127.0.0.1:7080": "127.0.0.1:0", `$(date +\%F)`: time.Now().Format(time.DateOnly),
	}
	for path, text := range map[string]string{"phrase": "four herring gulls\n", "yardbench.yaml": "data: " + filepath.Join(dir, "first") + "\nlisten: 127.0.0.1:0\nengine: " + w.engine + "\npublic_address: https://bench.skerryline.example\n"} {
		if err := os.WriteFile(filepath.Join(dir, path), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	left := handbook(t)
	// next takes the first line that begins so from the handbook, with the places that are meant.
	next := func(begins string) []string {
		t.Helper()
		for i, line := range left {
			if !strings.HasPrefix(line, begins) {
				continue
			}
			left = append(left[:i:i], left[i+1:]...)
			for from, to := range places {
				line = strings.ReplaceAll(line, from, to)
			}
			words, err := shlex.Split(line)
			if err != nil {
				t.Fatal(err)
			}
			return words
		}
		t.Fatalf("the handbook has no command more that begins with %q", begins)
		return nil
	}

	// Installed.
	w.must(w.operate(next("config check")...), 0)
	first := exec.Command(os.Getenv("YARDBENCH_TEST_BINARY"), append(next("serve"), "--ssh-listen", "127.0.0.1:0")...)
	said, err := first.StdoutPipe()
	log := &syncBuffer{}
	if first.Stderr = log; err == nil {
		first.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		err = first.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	linked := false
	for lines := bufio.NewScanner(said); !linked && lines.Scan(); {
		linked = strings.Contains(lines.Text(), "https://bench.skerryline.example/enrol#")
	}
	for end := time.Now().Add(slack * 10 * time.Second); !strings.Contains(log.String(), "the service has started") && time.Now().Before(end); {
		time.Sleep(50 * time.Millisecond)
	}
	if err := first.Process.Signal(syscall.SIGTERM); err != nil || !linked {
		t.Errorf("the first operator's link is printed: %t, %v", linked, err)
	}
	if err := first.Wait(); err != nil {
		t.Errorf("it ended with %v: %s", err, log)
	}

	// A day's work, with a trail, backed up.
	trail := filepath.Join(dir, "second", "trail")
	places["/var/lib/yardbench"] = w.data()
	w.more = []string{"--trail", trail, "--trail-passphrase-file", filepath.Join(dir, "phrase")}
	w.start()
	w.must(w.as("peder", "", "launch", "deck-log", "--name", "quay"), 0, "is ready")
	w.must(w.operate(next("backup make /backups/monday")...), 0, "its keys sealed by the passphrase")
	w.must(w.operate(next("backup verify /backups/monday")...), 0, "it is whole", "the keys open all")
	w.must(w.operate(next("backup make")...), 0)
	for end := time.Now().Add(slack * 10 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		if _, err := os.Stat(trail); err == nil && strings.Count(w.operate("backup", "from-trail", trail).out, "\n") > 1 {
			break
		}
		if time.Now().After(end) {
			t.Fatal("the trail has not begun")
		}
	}
	places["2026-03-14T09:26:00+01:00"] = time.Now().Format(time.RFC3339Nano)
	w.must(w.operate(next("backup from-trail")...), 0, "FROM")
	w.must(w.operate(next("backup from-trail")...), 0, "as of")
	w.must(w.operate(next("backup verify")...), 0, "it is whole")
	for n := range 4 {
		w.must(w.as("hauk", "", "launch", "deck-log", "--name", fmt.Sprint("late-", n)), 0, "is ready")
		w.must(w.as("hauk", "", "stop", fmt.Sprint("late-", n)), 0, "is stopped")
	}

	// Lost, and put back; what came after the backup is decided on.
	w.kill()
	if err := os.RemoveAll(w.data()); err != nil {
		t.Fatal(err)
	}
	w.must(w.operate(next("backup restore")...), 0, "--take-over")
	clear(w.config)
	again := next("serve")
	if len(again) != 4 || again[2] != w.data() {
		t.Fatalf("it is started again by %v", again)
	}
	w.more = again[3:]
	w.start()
	all, err := w.client("astrid").Quarantine.List(t.Context())
	if err != nil || len(all) != 4 {
		t.Fatalf("no record knows %+v, %v", all, err)
	}
	for _, one := range all {
		decided := next("quarantine")
		decided[2] = one.ID
		w.must(w.as("astrid", "", append(decided, "--yes")...), 0)
	}
	w.must(w.as("peder", "", "start", "tide-board-of-hauk"), 0, "is ready")
	w.must(w.as("peder", "", "start", "quay"), 0, "is ready")

	// Given up.
	installation := w.installation()
	w.kill()
	w.must(w.operate(append(next("yard show"), "--engine", w.engine)...), 0, installation)
	gone := next("yard clean")
	gone[2] = installation
	w.must(w.operate(append(gone, "--engine", w.engine, "--yes")...), 0)
	if still := w.leftovers(installation); still != "" {
		t.Errorf("there is still %s", still)
	}
	if len(left) > 0 {
		t.Errorf("of the handbook these were not run: %q", left)
	}
}
