package test

import (
	"bufio"
	"fmt"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"
)

// The journal is read by time, and followed as it grows, also over a restart
// of the service.
func TestJournalByTimeAndFollowed(t *testing.T) {
	t.Parallel()
	if os.Getenv("YARDBENCH_TEST_BINARY") == "" {
		t.Skip("needs the built binary: run it by `make test`")
	}
	w := simWorld(t)
	w.must(w.as("ingrid", "one", "secret", "put", "MAST_KEY", "--everywhere"), 0)
	now := time.Now().UTC()
	w.must(w.as("ingrid", "", "journal", "list", "--kind", "secret", "--from", now.Add(-time.Minute).Format(time.RFC3339)), 0, "secret.")
	w.must(w.as("ingrid", "", "journal", "list", "--kind", "secret", "--to", now.Add(-time.Hour).Format(time.RFC3339), "--json"), 0, "[]")
	follow := w.command("ingrid", "", "journal", "list", "--kind", "secret", "--follow")
	out, err := follow.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := follow.Start(); err != nil {
		t.Fatal(err)
	}
	lines := make(chan string, 100)
	go func() {
		for s := bufio.NewScanner(out); s.Scan(); {
			lines <- s.Text()
		}
		close(lines)
	}()
	next := func(number int) {
		t.Helper()
		select {
		case l := <-lines:
			if !strings.Contains(l, "secret.") {
				t.Errorf("line %d is %q", number, l)
			}
		case <-time.After(30 * time.Second):
			t.Fatalf("line %d does not come", number)
		}
	}
	next(1)
	for n := range 3 {
		if n == 2 {
			w.kill()
			w.start()
		}
		w.must(w.as("ingrid", "two", "secret", "put", fmt.Sprint("MAST_KEY_", n), "--everywhere"), 0)
		next(n + 2)
	}
	if err := follow.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	for l := range lines {
		t.Errorf("and then %q", l)
	}
	_ = follow.Wait() // how it ends is the signal's
}
