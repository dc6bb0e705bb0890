package inside

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yardbench/internal/steward"
)

// TestMain lets the test's own binary be what a shell calls for its
// environment.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == "environment" {
		os.Exit(PrintEnvironment())
	}
	os.Exit(m.Run())
}

// The user's shell is asked once for what its start-up files set, whatever
// they print; one that hangs or fails adds nothing.
func TestProbe(t *testing.T) {
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	shell := func(name, script string) account {
		p := filepath.Join(dir, name)
		if err := os.WriteFile(p, []byte("#!/bin/sh\n"+script), 0o755); err != nil {
			t.Fatal(err)
		}
		return account{name: name, shell: p, home: dir, uid: uint32(os.Getuid()), gid: uint32(os.Getgid())}
	}
	s := &server{places: places{binary: self}}
	env := map[string]string{"PATH": "/opt/tool/bin:/usr/bin:/usr/sbin:/bin", "KEPT": "1"}
	noisy := shell("noisy", "echo welcome aboard; echo \"$1 $2\" >> "+dir+"/asked; export PROFILED=yes PATH=/usr/bin:/bin; shift; [ \"$1\" = -i ] && shift; shift; $1\necho bye\n")
	for range 2 {
		got := s.probe(noisy, "loginInteractiveShell", env)
		if got["PROFILED"] != "yes" || got["KEPT"] != "1" || got["SHLVL"] != "" {
			t.Errorf("the shell says %v", got)
		}
		if want := map[bool]string{true: "/opt/tool/bin:/usr/sbin:/usr/bin:/bin", false: "/opt/tool/bin:/usr/bin:/bin"}[noisy.uid == 0]; got["PATH"] != want {
			t.Errorf("the path is %s, not %s", got["PATH"], want)
		}
	}
	if asked, err := os.ReadFile(filepath.Join(dir, "asked")); err != nil || string(asked) != "-l -i\n" {
		t.Errorf("it was asked %q, %v", asked, err)
	}
	for _, kind := range []string{"", "none", "fish"} {
		if got := s.probe(noisy, kind, env); got != nil {
			t.Errorf("%q asks all the same: %v", kind, got)
		}
	}
	began := time.Now()
	for name, script := range map[string]string{"fails": "exit 3\n", "silent": "echo nothing\n", "hangs": "sleep 60\n"} {
		if got := s.probe(shell(name, script), "loginShell", env); len(got) > 0 {
			t.Errorf("a shell that %s says %v", name, got)
		}
	}
	if took := time.Since(began); took > 2*probeTimeout {
		t.Errorf("it took %s", took)
	}
	if got := mergePath("/a:/b", "/x/sbin:/b:/y", false); got != "/y:/a:/b" {
		t.Errorf("paths merge to %s", got)
	}
	if !strings.Contains(strings.Join(shellFlags["interactiveShell"], ""), "-i") {
		t.Error("an interactive shell is not asked for")
	}
	if e := s.environment(noisy, steward.Process{Probe: "loginInteractiveShell", Env: map[string]string{"PROFILED": "mine"}}); e["PROFILED"] != "mine" {
		t.Errorf("what is asked for does not count before the shell's: %v", e["PROFILED"])
	}
}
