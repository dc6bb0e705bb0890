package test

import (
	"os/exec"
	"strings"
	"testing"
	"time"
)

// A workspace's disk is as large as its size says and not larger, over a stop,
// a kill and a start; nothing of it stays when it is gone, and none is held
// while it is stopped.
func TestBoundedDisk(t *testing.T) {
	if !bounded() {
		t.Skip("needs loop devices, losetup and mkfs.ext4, as root")
	}
	w := newWorld(t)
	w.rules("small:  {cores: 1, memory: 1 GiB, disk: 10 GiB}", "small:  {cores: 1, memory: 1 GiB, disk: 64 MiB}")
	attached := func() string {
		out, err := exec.Command("losetup", "--list", "--noheadings", "--output", "BACK-FILE").Output()
		if err != nil {
			t.Fatal(err)
		}
		var ours []string
		for _, l := range strings.Fields(string(out)) {
			if strings.HasPrefix(l, w.dir) {
				ours = append(ours, l)
			}
		}
		return strings.Join(ours, " ")
	}
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--name", "small"), 0)
	w.must(w.as("ingrid", "", "run", "small", "--", "sh", "-c", "dd if=/dev/zero of=full bs=1M count=100; df --output=size -m . | tail -1; ls -A"), 0, "No space left on device", "full")
	w.must(w.as("ingrid", "", "run", "small", "--", "sh", "-c", "rm full && echo kept > note && git status --short && make check"), 0, "?? note")
	if attached() == "" {
		t.Error("while it runs its disk is no device")
	}
	w.kill()
	w.start()
	w.must(w.as("ingrid", "", "rebuild", "small"), 0) // two bodies on one disk for a moment
	w.must(w.as("ingrid", "", "run", "small", "--", "cat", "note"), 0, "kept")
	w.must(w.as("ingrid", "", "stop", "small"), 0)
	for end := time.Now().Add(slack * 2 * time.Second); attached() != "" && time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
	}
	if left := attached(); left != "" {
		t.Errorf("stopped, it holds %s", left)
	}
	w.must(w.as("ingrid", "", "start", "small"), 0)
	w.must(w.as("ingrid", "", "run", "small", "--", "cat", "note"), 0, "kept")
	w.must(w.as("ingrid", "", "remove", "small", "--yes", "--discard"), 0)
	if left := attached(); left != "" {
		t.Errorf("removed, it holds %s", left)
	}
}
