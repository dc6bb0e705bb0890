package test

import (
	"bufio"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yardbench/internal/demo"
	"yardbench/wire"
)

// The first start of a service prints one link; by it the first operator sets
// up their account, and brings others in.
func TestFirstOperator(t *testing.T) {
	t.Parallel()
	needEngine(t)
	dir, err := os.MkdirTemp("", "ybt-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	w := &world{t: t, dir: dir, config: map[string]string{}, output: &syncBuffer{}}
	cmd := w.command("service", "", "serve", "--data", filepath.Join(dir, "data"), "--listen", "127.0.0.1:0", "--ssh-listen", "", "--engine", "unix:///nowhere/engine.sock")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	var link string
	for sc := bufio.NewScanner(out); w.address == "" && sc.Scan(); {
		if strings.Contains(sc.Text(), "/enrol#") {
			link = strings.TrimSpace(sc.Text())
		}
		_, w.address, _ = strings.Cut(sc.Text(), "the service is at ")
	}
	w.must(w.command("astrid", "short", "enrol", link, "--as", "astrid", "--full-name", "Astrid Holm", "--email", "astrid@skerryline.example").run(), 4, "at least 8")
	w.must(w.command("astrid", demo.Password, "enrol", link, "--as", "astrid", "--full-name", "Astrid Holm", "--email", "astrid@skerryline.example").run(), 0, "operator")
	w.must(w.command("mallory", demo.Password, "enrol", link, "--as", "mallory", "--full-name", "M", "--email", "m@x.example").run(), 3, "was used")
	w.must(w.as("astrid", "", "team", "add", "Harbour"), 0)
	var e wire.Enrolment
	if err := json.Unmarshal([]byte(w.must(w.as("astrid", "", "enrolment", "add", "--team", "Harbour", "--json"), 0)), &e); err != nil {
		t.Fatal(err)
	}
	w.must(w.command("mats", demo.Password, "enrol", e.Link, "--as", "mats", "--full-name", "Mats Eide", "--email", "mats@skerryline.example").run(), 0, "developer")
	w.must(w.as("mats", "", "person", "list"), 4, "does not allow")
	token := strings.TrimSpace(w.must(w.as("mats", "", "token", "add", "nightly"), 0))
	program := w.command("nobody", "", "list")
	program.Env = append(program.Env, "YARDBENCH_ADDRESS="+w.address, "YARDBENCH_TOKEN="+token)
	w.must(program.run(), 0, "no workspaces")
	w.must(w.as("astrid", "", "person", "close", "mats", "--yes"), 0, "may not sign in")
	program = w.command("nobody", "", "list")
	program.Env = append(program.Env, "YARDBENCH_ADDRESS="+w.address, "YARDBENCH_TOKEN="+token)
	w.must(program.run(), 5)
	w.must(w.as("astrid", "", "person", "close", "astrid", "--yes"), 4, "your own")
	w.must(w.as("astrid", "", "person", "change", "nobody", "--role", "lead"), 3, "nobody")
	w.must(w.as("astrid", "", "person", "list"), 0, "Mats Eide", "closed")
	for range 11 {
		w.command("mats", "wrong", "sign-in", w.address, "--as", "mats").run()
	}
	w.must(w.command("mats", demo.Password, "sign-in", w.address, "--as", "mats").run(), 8, "too many")
}
