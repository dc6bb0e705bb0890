package test

import (
	"bytes"
	"context"
	"fmt"
	"os/exec"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"

	yb "yardbench/client"
	"yardbench/wire"
)

// BenchmarkEcho: from a key to what a terminal shows of it, beside the engine's own
// exec in the same container: under two milliseconds more is promised at the median.
func BenchmarkEcho(t *testing.B) {
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	c := w.client("ingrid")
	median := func(send func(string) error, got chan []byte) time.Duration {
		t.Helper()
		await := func(want string) {
			var seen []byte
			for !bytes.Contains(seen, []byte(want)) {
				select {
				case p := <-got:
					seen = append(seen, p...)
				case <-time.After(10 * time.Second):
					t.Fatalf("%q is not shown after %q", want, seen)
				}
			}
		}
		if err := send("cat\n"); err != nil {
			t.Fatal(err)
		}
		await("cat\r\n")
		time.Sleep(500 * time.Millisecond)
		for len(got) > 0 {
			<-got
		}
		var all []time.Duration
		for i := range 500 {
			key := string(rune('a' + i%26))
			began := time.Now()
			if err := send(key); err != nil {
				t.Fatal(err)
			}
			await(key)
			all = append(all, time.Since(began))
		}
		slices.Sort(all)
		return all[len(all)/2]
	}
	s, err := c.Workspaces.Open(context.Background(), "quay", wire.Run{Columns: 80, Rows: 24})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	got := make(chan []byte, 10000)
	go func() {
		for {
			kind, p, err := s.Receive()
			if err != nil {
				return
			}
			if kind == 'o' {
				got <- p
			}
		}
	}()
	ours := median(func(p string) error { return s.Send('i', []byte(p)) }, got)

	list, err := exec.Command("docker", "-H", w.engine, "ps", "-q", "--filter", "label=yardbench.workspace").Output()
	if err != nil {
		t.Fatal(err)
	}
	theirs := exec.Command("docker", "-H", w.engine, "exec", "-it", string(bytes.Fields(list)[0]), "sh")
	f, err := pty.Start(theirs)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { f.Close(); _ = theirs.Process.Kill(); _ = theirs.Wait() }()
	shown := make(chan []byte, 10000)
	go func() {
		for {
			buf := make([]byte, 4096)
			n, err := f.Read(buf)
			if err != nil {
				return
			}
			shown <- buf[:n]
		}
	}()
	beside := median(func(p string) error { _, err := f.WriteString(p); return err }, shown)
	t.Logf("a key is shown after %s, by the engine's own exec after %s", ours, beside)
	t.ReportMetric(float64(ours-beside)/1e6, "ms-more")
	t.ReportMetric(0, "ns/op")
	if ours-beside > 2*time.Millisecond {
		t.Errorf("a key takes %s more", ours-beside)
	}
}

// BenchmarkIdleTerminals: the memory that the service takes for a thousand terminals
// that are looked at and do nothing, by five people in two workspaces each.
func BenchmarkIdleTerminals(t *testing.B) {
	w := newWorld(t)
	people := map[string]string{"ingrid": "tide-board", "runa": "tide-board", "peder": "berth-planner", "astrid": "tide-board", "mats": "fare-desk"}
	for p, repository := range people {
		for i := range 2 {
			w.must(w.as(p, "", "launch", repository, "--name", fmt.Sprint("w", i)), 0, "is ready")
		}
	}
	_, before := w.use()
	var wg sync.WaitGroup
	all := make(chan *yb.Session, 1000)
	for p := range people {
		c := w.client(p)
		wg.Go(func() {
			for j := range 200 {
				s, err := c.Workspaces.Open(context.Background(), fmt.Sprint("w", j%2), wire.Run{Terminal: fmt.Sprint("t", j), Columns: 80, Rows: 24})
				if err == nil {
					_, _, err = s.Receive()
				}
				if err != nil {
					t.Errorf("%s, terminal %d: %v", p, j, err)
					return
				}
				all <- s
			}
		})
	}
	wg.Wait()
	w.rest()
	_, after := w.use()
	n := len(all)
	t.Logf("with %d terminals the service takes %.0f MiB, %.0f more than without", n, float64(after)/(1<<20), float64(after-before)/(1<<20))
	t.ReportMetric(float64(after-before)/(1<<20), "MiB")
	t.ReportMetric(0, "ns/op")
	for range n {
		(<-all).Close()
	}
}
