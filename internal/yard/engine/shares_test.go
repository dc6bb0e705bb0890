package engine

import (
	"os"
	"path/filepath"
	"testing"

	"yardbench/internal/yard"
)

// The bounds are written where each version of control groups has them.
func TestShares(t *testing.T) {
	for _, c := range []struct {
		what    string
		there   []string // folders
		control string
		want    map[string]string
	}{
		{"version 1", []string{"memory", "cpu", "pids"}, "", map[string]string{"memory/yardbench/a/memory.limit_in_bytes": "268435456", "memory/yardbench/a/memory.memsw.limit_in_bytes": "268435456",
			"cpu/yardbench/a/cpu.cfs_quota_us": "150000", "cpu/yardbench/a/cpu.cfs_period_us": "100000", "pids/yardbench/a/pids.max": "8192"}},
		{"version 2", nil, "cpu memory pids", map[string]string{"yardbench/a/memory.max": "268435456", "yardbench/a/memory.swap.max": "0", "yardbench/a/cpu.max": "150000 100000", "yardbench/a/pids.max": "8192",
			"cgroup.subtree_control": "+cpu +memory +pids", "yardbench/cgroup.subtree_control": "+cpu +memory +pids"}},
	} {
		root := t.TempDir()
		for _, dir := range c.there {
			if err := os.Mkdir(filepath.Join(root, dir), 0o755); err != nil {
				t.Fatal(err)
			}
		}
		if c.control != "" {
			if err := os.WriteFile(filepath.Join(root, "cgroup.controllers"), []byte(c.control), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		s, err := NewShares(root)
		if err != nil {
			t.Fatal(err)
		}
		if s.parent("a") != "/yardbench/a" {
			t.Errorf("%s: its containers lie in %s", c.what, s.parent("a"))
		}
		for range 2 { // the second time it is there
			if err := s.set("a", yard.Share{CoresMilli: 1500, MemoryBytes: 256 << 20}); err != nil {
				t.Fatal(err)
			}
		}
		for file, want := range c.want {
			path := filepath.Join(root, file)
			if err := os.Chmod(path, 0o600); err != nil {
				t.Errorf("%s: %v", c.what, err)
			}
			if got, err := os.ReadFile(path); string(got) != want {
				t.Errorf("%s: %s is %q, %v", c.what, file, got, err)
			}
		}
	}
	// Whether anything ran in a group is read where each version has it.
	root := t.TempDir()
	s := &Shares{root: root}
	for _, dir := range s.hierarchies(builds) {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	stat := filepath.Join(root, "cpu/yardbench/builds/cpu.stat")
	for text, want := range map[string]bool{"nr_periods 0\nnr_throttled 0\n": false, "nr_periods 7\n": true, "usage_usec 0\n": false, "usage_usec 12\nuser_usec 1\n": true, "": false} {
		if err := os.WriteFile(stat, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if s.used(builds) != want {
			t.Errorf("%q: it was used: %v", text, !want)
		}
	}
	if _, err := NewShares(t.TempDir()); err == nil {
		t.Error("a machine without control groups bounds something")
	}
}
