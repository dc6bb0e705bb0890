package test

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/moby/moby/client"
	_ "modernc.org/sqlite"

	"yardbench/internal/core/secret"
	"yardbench/internal/store"
	"yardbench/wire"
)

func openDatabase(t testing.TB, path string) *sql.DB {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(5000)")
	if err != nil {
		t.Fatal(err)
	}
	return db
}

// One workspace, from sign-in to removal, with the real command line.
func TestOneWorkspaceAllTheWayThrough(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	const value = "tide-key-4711-öst"
	const gitToken = "skerry-git-ingrid"
	w.must(w.as("ingrid", "", "repository", "list"), 0, "tide-board", "berth-planner", "fare-desk")
	w.must(w.as("ingrid", value+"\n", "secret", "put", "TIDE_API_KEY", "--for", "tide-board"), 0)
	if out := w.must(w.as("ingrid", "", "secret", "list", "--json"), 0, "TIDE_API_KEY"); strings.Contains(out, value) {
		t.Fatalf("the list of secrets holds a value: %s", out)
	}
	// Set-up commands have the secret, and print it: the log must not.
	w.push("tide-board", "loud", map[string]string{".devcontainer/devcontainer.json": `{
		"build": {"dockerfile": "Dockerfile", "context": ".."}, "remoteUser": "crew",
		"containerEnv": {"TIDE_STATION": "Ytre Skjer"}, "forwardPorts": [8000],
		"postCreateCommand": "echo once >> .git/runs; echo key is $TIDE_API_KEY; printenv TIDE_API_KEY | wc -m", }`})
	w.must(w.as("ingrid", "", "launch", "tide-board", "--branch", "loud", "--name", "tide"), 0,
		"tide is accepted", "RUN mkdir", "Clone", "postCreateCommand", "tide is ready", "yardbench enter tide")

	out := w.must(w.as("ingrid", "", "run", "tide", "--", "sh", "-c", "id -un; pwd; echo $TIDE_STATION; printenv TIDE_API_KEY; git status -sb; git config user.email"), 0)
	if want := "crew\n/workspaces/tide-board\nYtre Skjer\n" + value + "\n## loud...origin/loud\ningrid@skerryline.example\n"; out != want {
		t.Errorf("a run gave\n%s\nnot\n%s", out, want)
	}
	w.must(w.as("ingrid", "", "run", "tide", "--", "make", "check"), 0, "OK")
	if r := w.as("ingrid", "north\nsouth\n", "run", "tide", "--", "sh", "-c", "sort -r; echo oops >&2; exit 3"); r.code != 3 || r.out != "south\nnorth\n" || r.errors != "oops\n" {
		t.Errorf("input, output, errors and exit code were not passed through: %s", r)
	}
	w.must(w.as("ingrid", "", "run", "tide", "--", "no-such-program"), 127, "no such program")

	w.must(w.as("ingrid", "echo piped in\n", "enter", "tide"), 125, "needs a terminal")
	w.must(w.as("ingrid", "echo piped in as $(whoami)\n", "run", "tide", "--", "sh"), 0, "piped in as crew")
	w.terminal(t, "tide")
	logs := w.must(w.as("ingrid", "", "logs", "tide"), 0, "== Image", "== Clone", "key is [secret TIDE_API_KEY]")
	w.must(w.as("ingrid", "", "list"), 0, "tide", "ready", "loud")
	var shown struct {
		wire.Workspace
		Newest wire.Sheet `json:"newest_sheet"`
	}
	if err := json.Unmarshal([]byte(w.must(w.as("ingrid", "", "show", "tide", "--json"), 0)), &shown); err != nil || shown.Phase != "ready" || shown.Newest.Number != 1 {
		t.Errorf("show --json gave %+v, %v", shown, err)
	}
	for _, s := range shown.Newest.Steps { // what was brought in is told, and nothing else
		brings := s.Title == "Clone" || s.Title == "Image" && !s.Cached
		if brings != (s.Bytes > 0) {
			t.Errorf("step %s, cached %v, tells of %d bytes", s.Title, s.Cached, s.Bytes)
		}
	}

	// Nobody else sees it, and an operator does not get into it.
	w.must(w.as("mats", "", "show", "tide.ingrid"), 3, "there is no workspace")
	w.must(w.as("mats", "", "list", "--all"), 4, "your own workspaces only")
	w.must(w.as("astrid", "", "list", "--all"), 0, "ingrid", "tide")
	w.must(w.as("astrid", "", "run", "tide.ingrid", "--", "env"), 125, "this is ingrid's workspace")

	// Work is kept: committed, pushed, and refused to be thrown away before.
	w.must(w.as("ingrid", "", "run", "tide", "--", "sh", "-c", "echo more >> README.md && git commit -qam 'More of it' && echo loose > loose.txt"), 0)
	w.must(w.as("ingrid", "", "remove", "tide", "--yes"), 4, "loose.txt", "More of it", "--discard")
	w.must(w.as("ingrid", "", "rebuild", "tide", "--new-files", "--yes"), 4, "loose.txt", "More of it")
	w.must(w.as("ingrid", "", "stop", "tide"), 0, "tide is stopped")
	w.must(w.as("ingrid", "", "remove", "tide", "--yes"), 4, "loose.txt", "More of it") // it was looked at before it stopped
	w.must(w.as("ingrid", "", "run", "tide", "--", "true"), 0, "tide is being started")
	// Ended behind its back nobody has looked: that is no leave to remove it.
	w.endBody(t, shown.ID)
	w.until(w.client("ingrid"), "tide", 10*time.Second, inPhase("stopped"))
	w.must(w.as("ingrid", "", "remove", "tide", "--yes"), 4, "cannot be looked at")
	w.must(w.as("ingrid", "", "start", "tide"), 0, "tide is ready")
	w.must(w.as("ingrid", "", "rebuild", "tide"), 0, "New container takes over", "tide is ready")
	if out := w.must(w.as("ingrid", "", "run", "tide", "--", "sh", "-c", "cat loose.txt; git log -1 --format=%s"), 0); out != "loose\nMore of it\n" {
		t.Errorf("after stop, start and rebuild the files are %q", out)
	}
	w.must(w.as("ingrid", "", "run", "tide", "--", "sh", "-c", "rm loose.txt && git push"), 0)
	if out, err := exec.Command("git", "--git-dir", filepath.Join(w.bare, "tide-board.git"), "log", "-1", "--format=%s by %ae", "loud").CombinedOutput(); err != nil || string(out) != "More of it by ingrid@skerryline.example\n" {
		t.Errorf("the git host has %q, %v", out, err)
	}
	w.nowhere(t, shown.ID, logs, value, gitToken)
	w.must(w.as("ingrid", "", "remove", "tide", "--yes"), 0, "tide is removed")
	if left := w.leftovers(w.installation()); left != "" {
		t.Errorf("a removed workspace leaves:\n%s", left)
	}
	w.must(w.as("ingrid", "", "list"), 0, "no workspaces")
	w.journalHolds(t)
}

// endBody ends a workspace's container as somebody else would.
func (w *world) endBody(t *testing.T, workspace string) {
	t.Helper()
	cli := w.docker()
	defer cli.Close()
	list, err := cli.ContainerList(t.Context(), client.ContainerListOptions{Filters: client.Filters{}.Add("label", "yardbench.workspace="+workspace)})
	if err != nil || len(list.Items) != 1 {
		t.Fatalf("it has %d containers, %v", len(list.Items), err)
	}
	if _, err := cli.ContainerKill(t.Context(), list.Items[0].ID, client.ContainerKillOptions{Signal: "SIGKILL"}); err != nil {
		t.Fatal(err)
	}
}

// terminal uses a true terminal: `enter`, by a pty of our own.
func (w *world) terminal(t *testing.T, name string) {
	t.Helper()
	open := func() (*os.File, *syncBuffer, func() error) {
		cmd := w.command("ingrid", "", "enter", name)
		cmd.Stdin = nil
		f, err := pty.StartWithSize(cmd.Cmd, &pty.Winsize{Cols: 91, Rows: 33})
		if err != nil {
			t.Fatal(err)
		}
		seen := &syncBuffer{}
		go func() {
			buf := make([]byte, 4096)
			for {
				n, err := f.Read(buf)
				_, _ = seen.Write(buf[:n])
				if err != nil {
					return
				}
			}
		}()
		return f, seen, cmd.Wait
	}
	see := func(seen *syncBuffer, want string) {
		t.Helper()
		for end := time.Now().Add(slack * 10 * time.Second); !regexp.MustCompile(want).MatchString(seen.String()); time.Sleep(20 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("the terminal does not show %q; it shows\n%s", want, seen.String())
			}
		}
	}
	f, seen, _ := open()
	fmt.Fprint(f, "stty size; tty; whoami; printf '\\345\\217\\260\\351\\242\\250\\n'; printenv TIDE_API_KEY | wc -m\n")
	see(seen, `33 91\r\n/dev/pts/\d+\r\ncrew\r\n台風\r\n18\r\n`)
	if err := pty.Setsize(f, &pty.Winsize{Cols: 101, Rows: 41}); err != nil {
		t.Fatal(err)
	}
	fmt.Fprint(f, "until [ \"$(stty size)\" = '41 101' ]; do sleep 0.05; done; stty size; ulimit -c\n")
	see(seen, `41 101\r\n0\r\n`)
	// A full-screen program draws on the other screen and takes keys.
	fmt.Fprint(f, "less Makefile\n")
	see(seen, `\x1b\[\?1049h`)
	fmt.Fprint(f, "q")
	see(seen, `\x1b\[\?1049l`)
	fmt.Fprint(f, "cd /tmp && MARK=still-here && echo marked in $PWD\n")
	see(seen, `marked in /tmp`)
	f.Close() // the window is closed; the shell lives on
	f, seen, wait := open()
	see(seen, `台風`) // its scrollback
	fmt.Fprint(f, "echo $MARK in $PWD; exit 5\n")
	see(seen, `still-here in /tmp`)
	var ended *exec.ExitError
	if err := wait(); !errors.As(err, &ended) || ended.ExitCode() != 5 {
		t.Errorf("the shell's exit code 5 came back as %v", err)
	}
}

// A terminal comes back by itself when the service was killed under it: what was
// printed and typed meanwhile is there, once.
func TestTerminalOutlivesTheService(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	cmd := w.command("ingrid", "", "enter", "quay")
	cmd.Stdin = nil
	f, err := pty.StartWithSize(cmd.Cmd, &pty.Winsize{Cols: 91, Rows: 33})
	if err != nil {
		t.Fatal(err)
	}
	seen := &syncBuffer{}
	go func() { _, _ = io.Copy(seen, f) }()
	see := func(want string) {
		t.Helper()
		for end := time.Now().Add(slack * 20 * time.Second); !strings.Contains(seen.String(), want); time.Sleep(20 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("the terminal does not show %q; it shows\n%s", want, seen.String())
			}
		}
	}
	fmt.Fprint(f, "stty -echo; for i in $(seq 1 500); do echo n$i.; sleep 0.01; done; echo done-$((1+1))\n")
	see("n100.")
	w.kill()
	see("the connection is lost")
	fmt.Fprint(f, "echo typed-$((3+4))\n")
	time.Sleep(time.Second)
	w.start()
	see("done-2")
	see("typed-7")
	at := 0
	for i := 1; i <= 500; i++ {
		line := fmt.Sprintf("n%d.\r\n", i)
		n := strings.Index(seen.String()[at:], line)
		if n < 0 || strings.Count(seen.String(), line) != 1 {
			t.Fatalf("%q came %d times", line, strings.Count(seen.String(), line))
		}
		at += n
	}
	fmt.Fprint(f, "exit 6\n")
	var ended *exec.ExitError
	if err := cmd.Wait(); !errors.As(err, &ended) || ended.ExitCode() != 6 {
		t.Errorf("the shell's exit code 6 came back as %v", err)
	}
}

// nowhere looks for secret values where none may be: the database, every
// other file of the service, the logs, what the engine tells of the container
// and holds of it, the image.
func (w *world) nowhere(t *testing.T, workspace, logs string, values ...string) {
	t.Helper()
	var forms []string // as they are, and as tools print them
	for _, v := range values {
		forms = append(forms, secret.Forms(v)...)
	}
	values = forms
	search := func(where string, content []byte) {
		for _, v := range values {
			if bytes.Contains(content, []byte(v)) {
				t.Errorf("%s holds the value of a secret", where)
			}
		}
	}
	search("the printed log", []byte(logs))
	search("the service's own log", []byte(w.output.String()))
	search("the journal as it goes out", []byte(w.must(w.as("astrid", "", "journal", "list", "--json"), 0)))
	search("the journal's export", []byte(w.must(w.as("astrid", "", "journal", "export"), 0)))
	for _, ask := range []string{"secret list", "secret explain tide-board", "list", "whoami", "cost"} {
		search("yardbench "+ask, []byte(w.must(w.as("ingrid", "", append(strings.Fields(ask), "--json")...), 0)))
	}
	all, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil || len(all) < 3 {
		t.Fatalf("the machine's processes are %v, %v", all, err)
	}
	for _, p := range all {
		line, _ := os.ReadFile(p) // it may have ended
		search("the machine's list of processes", line)
	}
	if limits, err := os.ReadFile(fmt.Sprintf("/proc/%d/limits", w.service.Process.Pid)); err != nil || !regexp.MustCompile(`(?m)^Max core file size +0 +0 `).Match(limits) {
		t.Errorf("the service may leave a core: %s, %v", limits, err)
	}
	for _, of := range []string{"environ", "cmdline"} {
		content, err := os.ReadFile(fmt.Sprintf("/proc/%d/%s", w.service.Process.Pid, of))
		if err != nil {
			t.Error(err)
		}
		search("the service's "+of, content)
	}
	err = filepath.WalkDir(filepath.Join(w.dir, "data"), func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		found, err := contains(&dense{f: f}, values...)
		if found != "" {
			t.Errorf("%s holds the value of a secret", path)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	cli := w.docker()
	defer cli.Close()
	cs, err := cli.ContainerList(ctx, client.ContainerListOptions{Filters: client.Filters{}.Add("label", "yardbench.workspace="+workspace)})
	if err != nil || len(cs.Items) != 1 {
		t.Fatalf("the workspace has %d containers, %v", len(cs.Items), err)
	}
	in, err := cli.ContainerInspect(ctx, cs.Items[0].ID, client.ContainerInspectOptions{})
	if err != nil {
		t.Fatal(err)
	}
	search("the container's inspect", in.Raw)
	image, err := cli.ImageInspect(ctx, cs.Items[0].ImageID)
	if err != nil {
		t.Fatal(err)
	}
	text, _ := json.Marshal(image)
	search("the image's inspect", text)
	docker := func(args ...string) []byte {
		out, err := exec.Command("docker", append([]string{"--host", w.engine}, args...)...).CombinedOutput()
		if err != nil {
			t.Fatalf("docker %v: %v: %s", args, err, out)
		}
		return out
	}
	search("the image", docker("save", cs.Items[0].ImageID))
	search("the container's layer", docker("export", cs.Items[0].ID))
	search("the command lines in the container", docker("top", cs.Items[0].ID, "-eo", "pid,args"))
	search("the container's own log", docker("logs", cs.Items[0].ID))
	// What ends badly with the value in its memory leaves no core behind: what all
	// come from may have none, and none may have more than that.
	if limits := docker("exec", cs.Items[0].ID, "grep", "core file", "/proc/1/limits"); strings.Join(strings.Fields(string(limits)), " ") != "Max core file size 0 0 bytes" {
		t.Errorf("the processes in the workspace may leave cores: %s", limits)
	}
	search("the tree and its git configuration", docker("exec", cs.Items[0].ID, "tar", "-c", "/workspaces", "/var/lib/yardbench-steward"))
}

// journalHolds verifies the chain, then shows that a changed entry is found.
func (w *world) journalHolds(t *testing.T) {
	t.Helper()
	ctx := context.Background()
	copied := filepath.Join(t.TempDir(), "copy.db")
	db := openDatabase(t, filepath.Join(w.dir, "data", "yardbench.db"))
	if _, err := db.Exec("VACUUM INTO ?", copied); err != nil {
		t.Fatal(err)
	}
	db.Close()
	db = openDatabase(t, copied)
	defer db.Close()
	if _, err := db.Exec("UPDATE journal SET kind = 'nothing' WHERE number = 3"); err == nil {
		t.Error("the journal lets itself be written over")
	}
	verify := func() error {
		st, err := store.Open(ctx, copied, time.Now)
		if err != nil {
			t.Fatal(err)
		}
		defer st.Close()
		return st.Read().VerifyJournal(ctx)
	}
	if err := verify(); err != nil {
		t.Errorf("the journal of a whole life: %v", err)
	}
	if _, err := db.Exec("DROP TRIGGER journal_no_update; UPDATE journal SET body = CAST(replace(CAST(body AS TEXT), 'ready', 'reedy') AS BLOB) WHERE kind = 'workspace.phase'"); err != nil {
		t.Fatal(err)
	}
	if verify() == nil {
		t.Error("a changed journal is taken for whole")
	}
}

// dense reads what a file holds and leaves its holes out (lseek(2), SEEK_DATA
// and SEEK_HOLE): a bounded disk is a file of many gibibytes that are not there.
type dense struct {
	f    *os.File
	left int64
}

func (d *dense) Read(p []byte) (int, error) {
	const seekData, seekHole = 3, 4
	if d.left == 0 {
		at, err := d.f.Seek(0, io.SeekCurrent)
		if err != nil {
			return 0, err
		}
		from, err := d.f.Seek(at, seekData)
		if errors.Is(err, syscall.ENXIO) {
			return 0, io.EOF
		}
		if err != nil {
			return 0, err
		}
		to, err := d.f.Seek(from, seekHole)
		if err != nil {
			return 0, err
		}
		if _, err := d.f.Seek(from, io.SeekStart); err != nil {
			return 0, err
		}
		d.left = to - from
	}
	n, err := d.f.Read(p[:min(int64(len(p)), d.left)])
	d.left -= int64(n)
	return n, err
}
