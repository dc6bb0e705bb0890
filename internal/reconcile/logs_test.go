package reconcile

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/secret"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
)

// A log is masked while it is written, tells its followers, keeps its last
// line for the error, and has an end.
func TestStepLog(t *testing.T) {
	whole := maxLogBytes
	maxLogBytes = 2 << 20
	defer func() { maxLogBytes = whole }()
	bus := &live.Bus{}
	watch := bus.Watch()
	defer watch.Close()
	k := New(t.Context(), Rooms{DataDir: t.TempDir(), Bus: bus, House: &house.Book{}})
	l, err := k.Logs.openLog(store.Workspace{ID: "w1"}, 2, 3, secret.NewValues(map[string]string{"KEY": "hush-hush"}))
	if err != nil {
		t.Fatal(err)
	}
	read := func() string {
		content, err := os.ReadFile(k.Logs.LogPath("w1", 2, 3))
		if err != nil {
			t.Fatal(err)
		}
		return string(content)
	}
	write := func(s string) {
		t.Helper()
		if n, err := l.Write([]byte(s)); err != nil || n != len(s) {
			t.Fatalf("%d, %v", n, err)
		}
	}
	write("the key is hush")
	if read() != "the key is " {
		t.Errorf("what may be a secret is written: %q", read())
	}
	select {
	case <-watch.C:
	default:
		t.Error("its followers were not told")
	}
	if !watch.Take()["w1"] || len(watch.Take()) != 0 {
		t.Error("its followers were told of something else")
	}
	write("-hush\nthe mast is gone\n\n")
	if got := l.lastLine(); got != "the mast is gone" {
		t.Errorf("its last line is %q", got)
	}
	line := strings.Repeat("x", 1<<20) + "\n"
	for range maxLogBytes>>20 + 5 {
		write(line)
	}
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	got := read()
	if !strings.HasPrefix(got, "the key is [secret KEY]\n") || !strings.Contains(got[len(got)-100:], "the log is cut here") || int64(len(got)) > maxLogBytes+200 {
		t.Errorf("a log of %d bytes begins %q and ends %q", len(got), got[:40], got[len(got)-80:])
	}
	for link, want := range map[string]string{outside.Link("abc234", 12): "abc234", "abc": "abc"} {
		if outside.WorkspaceOf(link) != want {
			t.Errorf("%s is of %s", link, outside.WorkspaceOf(link))
		}
	}
}

// Logs that are old by the house rules go, with folders that are empty then;
// those that are not stay.
func TestOldLogsGo(t *testing.T) {
	dir := t.TempDir()
	now := time.Now()
	for path, age := range map[string]time.Duration{"w1/1-1.log": 100 * time.Hour, "w1/2-1.log": time.Hour, "w2/1-1.log": 80 * time.Hour, "w3/1-1.log": 0} {
		file := filepath.Join(dir, path)
		if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte("x"), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chtimes(file, now, now.Add(-age)); err != nil {
			t.Fatal(err)
		}
	}
	if err := clearBefore(dir, now.Add(-72*time.Hour)); err != nil {
		t.Fatal(err)
	}
	left, _ := filepath.Glob(filepath.Join(dir, "*", "*"))
	folders, _ := filepath.Glob(filepath.Join(dir, "*"))
	if len(left) != 2 || len(folders) != 2 || filepath.Base(left[0]) != "2-1.log" {
		t.Errorf("left are %v in %v", left, folders)
	}
	if err := clearBefore(filepath.Join(dir, "nowhere"), now); err != nil {
		t.Errorf("where there are none: %v", err)
	}
}

// A value that lies where a long line is cut does not come out in two parts with
// a label in its middle.
func TestLabelsAreNotWithinValues(t *testing.T) {
	for before := 8170; before < 8200; before++ {
		var out bytes.Buffer
		lines := &labelled{to: &out, label: "tables"}
		masked := secret.NewMasker(lines, map[string]string{"KEY": "levels-of-the-quay"})
		if _, err := fmt.Fprint(masked, strings.Repeat("x", before), "levels-of-the-quay", strings.Repeat("y", 100)); err != nil {
			t.Fatal(err)
		}
		if err := masked.Close(); err != nil {
			t.Fatal(err)
		}
		lines.Close()
		if got := strings.NewReplacer("\n", "", "tables | ", "").Replace(out.String()); strings.Contains(got, "levels") || strings.Contains(got, "quay") || !strings.Contains(got, "[secret KEY]") {
			t.Fatalf("after %d it reads %.40s…%s", before, got, got[before-20:])
		}
	}
}
