package demo_test

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"yardbench/internal/demo"
	"yardbench/internal/gitssh"
	"yardbench/internal/repo"
)

// The git host's door by SSH serves those whose key it has.
func TestGitHostBySSH(t *testing.T) {
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	dir := t.TempDir()
	if err := demo.MakeRepository(ctx, dir, "deck-log", os.DirFS(".")); err != nil {
		t.Fatal(err)
	}
	door, err := demo.NewGitHostSSH(dir, func() string { return "" })
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go door.Serve(l)
	private, public, err := gitssh.NewKey("ingrid")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(filepath.Join(dir, "keys"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "keys", "person-ingrid"), []byte(public), 0o600); err != nil {
		t.Fatal(err)
	}
	m := repo.NewMirrors(t.TempDir())
	with := repo.Credential{SSH: gitssh.With{Key: private, HostKeys: door.Key}}
	at := "ssh://git@" + l.Addr().String() + "/deck-log.git"
	if branch, err := m.DefaultBranch(ctx, at, with); err != nil || branch != "main" {
		t.Fatalf("%q %v", branch, err)
	}
	if err := m.Fetch(ctx, "r1", at, with); err != nil {
		t.Fatal(err)
	}
	if err := m.Fetch(ctx, "r1", at, repo.Credential{SSH: gitssh.With{HostKeys: door.Key}}); err == nil {
		t.Fatal("nobody is let in")
	}
}
