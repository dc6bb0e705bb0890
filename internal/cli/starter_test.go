package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yardbench/wire"
)

// A starter is written into its folder and nowhere else, whole or not at all.
func TestWriteStarter(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "new")
	s := wire.FilledStarter{Files: []wire.StarterFile{{Path: ".devcontainer/devcontainer.json", Content: []byte("{}")}, {Path: "bin/run", Executable: true, Content: []byte("#!/bin/sh\n")}}}
	if err := writeStarter(s, dir, false); err != nil {
		t.Fatal(err)
	}
	if st, err := os.Stat(filepath.Join(dir, "bin", "run")); err != nil || st.Mode().Perm() != 0o755 {
		t.Errorf("what runs has the mode %v, %v", st, err)
	}
	s.Files = append([]wire.StarterFile{{Path: "README.md", Content: []byte("x")}}, s.Files...)
	if err := writeStarter(s, dir, false); err == nil || !strings.Contains(err.Error(), "devcontainer.json is there already") {
		t.Errorf("a file that is there is answered %v", err)
	}
	if _, err := os.Stat(filepath.Join(dir, "README.md")); err == nil {
		t.Error("half of it was written")
	}
	if err := writeStarter(s, dir, true); err != nil {
		t.Error(err)
	}
	outside := t.TempDir()
	if err := os.Symlink(outside, filepath.Join(dir, "away")); err != nil {
		t.Fatal(err)
	}
	for _, bad := range []string{"../x", "/etc/x", "away/x", ".git/hooks/post-checkout", "a/../../x"} {
		if err := writeStarter(wire.FilledStarter{Files: []wire.StarterFile{{Path: bad, Content: []byte("x")}}}, dir, true); err == nil {
			t.Errorf("%s is written", bad)
		}
	}
	if left, _ := os.ReadDir(outside); len(left) > 0 {
		t.Errorf("outside there is %v", left)
	}
}

// What a definition comes to is shown for a folder without a service.
func TestDefinitionShowOfAFolder(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{".devcontainer/devcontainer.json": "{\n\"image\": \"a:1\", \"forwardPorts\": [1]}", ".devcontainer/night/devcontainer.json": `{"image": "b:1"}`, ".devcontainer/broken/devcontainer.json": `{`} {
		p := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		args string
		code int
		says []string
	}{
		{"", 0, []string{"its definitions: the first, broken, night", "image ", "a:1", ".devcontainer/devcontainer.json:2:1", "ports.1", "folder", "usual"}},
		{"--name night", 0, []string{"b:1", ".devcontainer/night/devcontainer.json:1:2"}},
		{"--name broken", exitRefused, []string{"not JSON", "1 error"}},
		{"--name dusk", exitRefused, []string{"no definition \"dusk\"", "name one of: broken, night"}},
		{"--json", 0, []string{`"origin": "usual"`}},
	} {
		a, out, errs := quiet(t)
		root := a.root()
		root.SetArgs(append([]string{"definition", "show", dir}, strings.Fields(c.args)...))
		code := a.report(root.Execute())
		said := out.String() + errs.String()
		for _, want := range c.says {
			if !strings.Contains(said, want) {
				t.Errorf("%q does not say %q", c.args, want)
			}
		}
		if code != c.code || t.Failed() {
			t.Errorf("%q ends with %d, not %d:\n%s", c.args, code, c.code, said)
		}
	}
}

// A definition is proposed from what a folder holds, and written where none is.
func TestPropose(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module x\n\ngo 1.25\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	run := func(args ...string) (string, int) {
		a, out, errs := quiet(t)
		root := a.root()
		root.SetArgs(append([]string{"starter", "propose", dir}, args...))
		code := a.report(root.Execute())
		return out.String() + errs.String(), code
	}
	if out, code := run(); code != 0 || !strings.Contains(out, "// it holds go.mod, and go.mod asks for 1.25\n  \"image\": \"golang:1.25-bookworm\",") {
		t.Errorf("proposed is, with exit code %d:\n%s", code, out)
	}
	if out, code := run("--json"); code != 0 || !strings.Contains(out, `"property": "image"`) {
		t.Errorf("as JSON it is, with exit code %d:\n%s", code, out)
	}
	if out, code := run("--write"); code != 0 || !strings.Contains(out, "look at it with: yardbench definition check") {
		t.Errorf("writing it says, with exit code %d:\n%s", code, out)
	}
	if out, code := run("--write"); code != exitUsage || !strings.Contains(out, "is there already") {
		t.Errorf("writing it again says, with exit code %d:\n%s", code, out)
	}
}
