package test

import (
	"context"
	"encoding/json"
	"os/exec"
	"slices"
	"testing"
	"time"

	"github.com/creack/pty"

	"yardbench/internal/wire"
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
		ws, err := c.Launch(context.Background(), wire.Launch{Repository: "berth-planner"})
		if err != nil {
			t.Fatal(err)
		}
		err = c.Watch(context.Background(), func() (bool, error) {
			now, err := c.Show(context.Background(), ws.Name)
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
