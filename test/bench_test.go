package test

import (
	"context"
	"encoding/json"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"

	"yardbench/wire"
)

// prompted waits until a command on a terminal has printed what a shell
// prints when it is ready to be typed to, and ends it.
func prompted(t testing.TB, cmd *exec.Cmd) {
	t.Helper()
	f, err := pty.Start(cmd)
	if err != nil {
		t.Fatal(err)
	}
	buf, seen := make([]byte, 4096), []byte{}
	for !slices.Contains(seen, '$') && !slices.Contains(seen, '#') {
		n, err := f.Read(buf)
		if err != nil {
			t.Fatalf("%v ended without a prompt: %v: %s", cmd.Args, err, seen)
		}
		seen = append(seen, buf[:n]...)
	}
	f.Close()
	_ = cmd.Process.Kill()
	_ = cmd.Wait()
}

// BenchmarkLaunchToPrompt: from the request to launch to the first prompt,
// image present, beside the bare engine's run and exec of the same image in
// the same run, five times each. At most twice it is promised. The clock
// covers everything a user waits for: resolving, network, volume, clone,
// steward.
func BenchmarkLaunchToPrompt(t *testing.B) {
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--name", "warm"), 0)
	c := w.client("ingrid")
	const runs = 5
	var ours, bare []float64
	for range runs {
		began := time.Now()
		ws, err := c.Workspaces.Launch(context.Background(), wire.Launch{Repository: "berth-planner"})
		if err != nil {
			t.Fatal(err)
		}
		err = c.Watch(context.Background(), func() (bool, error) {
			now, err := c.Workspaces.Show(context.Background(), ws.Name)
			return now.Phase == "ready" || now.Phase == "failed", err
		})
		if err != nil {
			t.Fatal(err)
		}
		enter := w.command("ingrid", "", "enter", ws.Name)
		enter.Stdin = nil
		prompted(t, enter.Cmd)
		ours = append(ours, time.Since(began).Seconds())
		w.must(w.as("ingrid", "", "remove", ws.Name, "--yes"), 0)

		began = time.Now()
		docker := func(args ...string) *exec.Cmd {
			return exec.Command("docker", append([]string{"--host", w.engine}, args...)...)
		}
		id, err := docker("run", "--detach", "skerryline/base:1", "sleep", "600").Output()
		if err != nil {
			t.Fatal(err)
		}
		name := string(id[:12])
		prompted(t, docker("exec", "--interactive", "--tty", name, "bash"))
		bare = append(bare, time.Since(began).Seconds())
		if out, err := docker("rm", "--force", name).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	slices.Sort(ours)
	slices.Sort(bare)
	ratio := ours[runs/2] / bare[runs/2]
	report, _ := json.MarshalIndent(map[string]any{"measured": "launch to first prompt, seconds", "yardbench": ours, "bare_engine": bare, "ratio_of_medians": ratio}, "", "  ")
	t.Logf("%s", report)
	t.ReportMetric(ratio, "times-bare-engine")
	t.ReportMetric(ours[runs/2], "s/launch")
	t.ReportMetric(0, "ns/op")
	if ratio > 2 {
		t.Errorf("it takes %.2f times the bare engine's time; at most 2 is promised", ratio)
	}
}

// BenchmarkPreparedLaunch: a repository whose set-up takes about a minute,
// launched from scratch and from a prepared image, until it is ready. At least
// five times as fast it is promised.
func BenchmarkPreparedLaunch(t *testing.B) {
	w := newWorld(t)
	c := w.client("ingrid")
	launch := func() float64 {
		t.Helper()
		began := time.Now()
		ws, err := c.Workspaces.Launch(context.Background(), wire.Launch{Repository: "chart-press"})
		if err != nil {
			t.Fatal(err)
		}
		err = c.Watch(context.Background(), func() (bool, error) {
			now, err := c.Workspaces.Show(context.Background(), ws.Name)
			return now.Phase == "ready" || now.Phase == "failed", err
		})
		if err != nil {
			t.Fatal(err)
		}
		took := time.Since(began).Seconds()
		w.must(w.as("ingrid", "", "run", ws.Name, "--", "make", "check"), 0)
		w.must(w.as("ingrid", "", "remove", ws.Name, "--yes"), 0)
		return took
	}
	scratch := launch()
	w.must(w.as("runa", "", "prebuild", "put", "chart-press"), 0)
	w.must(w.as("runa", "", "prebuild", "run", "chart-press"), 0)
	prepared := []float64{launch(), launch(), launch()}
	slices.Sort(prepared)
	ratio := scratch / prepared[1]
	t.Logf("from scratch %.1f s, prepared %.2f s", scratch, prepared)
	t.ReportMetric(ratio, "times-faster")
	t.ReportMetric(prepared[1], "s/prepared-launch")
	t.ReportMetric(0, "ns/op")
	if ratio < 5 {
		t.Errorf("a prepared launch is %.1f times as fast; at least 5 is promised", ratio)
	}
}

// BenchmarkAdmission: launches accepted through the HTTP door in a second,
// durable and with their limits reserved, 32 at a time, beside bare commits of
// one row in the same kind of file. The engine is away, so that only what is
// before the answer is measured, and the keeper's first writes beside it.
func BenchmarkAdmission(t *testing.B) {
	w := newWorld(t)
	w.rules("person: {existing: 5, running: 3, cores: 6, memory: 12 GiB}", "person: {existing: 100000}", "team: {running: 12, cores: 20, memory: 40 GiB}", "team: {cores: 100000}")
	engine := w.engine
	w.kill()
	w.engine = "unix:///nowhere/engine.sock"
	w.start()
	c := w.client("ingrid")
	const n = 160
	work := make(chan int)
	var wg sync.WaitGroup
	began := time.Now()
	for range 32 {
		wg.Go(func() {
			for i := range work {
				if _, err := c.Workspaces.Launch(context.Background(), wire.Launch{Repository: "berth-planner", Name: fmt.Sprint("w", i)}); err != nil {
					t.Errorf("launch: %v", err)
				}
			}
		})
	}
	for i := range n {
		work <- i
	}
	close(work)
	wg.Wait()
	ours := n / time.Since(began).Seconds()
	w.kill()
	db := openDatabase(t, filepath.Join(w.dir, "bare.db"))
	for _, q := range []string{"PRAGMA journal_mode = WAL", "PRAGMA synchronous = FULL", "CREATE TABLE x (id INTEGER PRIMARY KEY, body TEXT)"} {
		if _, err := db.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	db.SetMaxOpenConns(1)
	began = time.Now()
	for range n {
		if _, err := db.Exec("INSERT INTO x (body) VALUES (?)", strings.Repeat("x", 600)); err != nil {
			t.Fatal(err)
		}
	}
	bare := n / time.Since(began).Seconds()
	db.Close()
	w.engine = engine
	w.start()
	t.Logf("accepted %.0f in a second, bare commits %.0f", ours, bare)
	t.ReportMetric(ours, "accepted/s")
	t.ReportMetric(bare, "bare-commits/s")
	t.ReportMetric(ours/bare, "of-bare-commits")
	t.ReportMetric(0, "ns/op")
}
