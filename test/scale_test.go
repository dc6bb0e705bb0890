package test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	yb "yardbench/client"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/wire"
)

// simWorld is a service of its own over a simulated yard without delays.
func simWorld(t testing.TB) *world {
	t.Helper()
	w := &world{t: t, engine: "sim:skerryline/base:1", config: map[string]string{}}
	dir, err := os.MkdirTemp("", "ybh-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	w.dir, w.bare = dir, filepath.Join(dir, "git")
	w.hostGit()
	w.more = []string{"--sim-fast", "--changes-per-hour", "0"}
	w.start()
	t.Cleanup(w.kill)
	return w
}

// multiply makes n workspaces of one that is ready, in the records and in the
// yard, while the service is down.
func (w *world) multiply(name string, n int) {
	w.t.Helper()
	data := filepath.Join(w.dir, "data")
	v, err := vault.Open(filepath.Join(data, "keys", "sealing.json"), nil)
	if err != nil {
		w.t.Fatal(err)
	}
	db := openDatabase(w.t, filepath.Join(data, "yardbench.db"))
	defer db.Close()
	var id string
	if err := db.QueryRow("SELECT id FROM workspaces WHERE name = ?", name).Scan(&id); err != nil {
		w.t.Fatal(err)
	}
	folder := filepath.Join(data, "simulated-yard", "workspaces")
	kept, err := os.ReadFile(filepath.Join(folder, id+".json"))
	if err != nil {
		w.t.Fatal(err)
	}
	rows, err := db.Query("SELECT name FROM pragma_table_info('workspaces')")
	if err != nil {
		w.t.Fatal(err)
	}
	var columns, values []string
	for rows.Next() {
		var c string
		if err := rows.Scan(&c); err != nil {
			w.t.Fatal(err)
		}
		columns = append(columns, c)
		if other := map[string]string{"id": "?", "name": "?", "port_key": "?", "steward_token": "?", "owner_id": "(SELECT id FROM people WHERE name = 'astrid')"}[c]; other != "" {
			c = other
		}
		values = append(values, c)
	}
	rows.Close()
	tx, err := db.Begin()
	if err != nil {
		w.t.Fatal(err)
	}
	insert, err := tx.Prepare("INSERT INTO workspaces (" + strings.Join(columns, ", ") + ") SELECT " + strings.Join(values, ", ") + " FROM workspaces WHERE id = ?")
	if err != nil {
		w.t.Fatal(err)
	}
	for i := range n - 1 {
		other := store.NewID()
		token, err := v.Seal("token", "steward", other)
		if err != nil {
			w.t.Fatal(err)
		}
		args := map[string]any{"id": other, "name": fmt.Sprint("w", i), "port_key": other[:10], "steward_token": token}
		var in []any
		for _, c := range columns {
			if a, ok := args[c]; ok {
				in = append(in, a)
			}
		}
		if _, err := insert.Exec(append(in, id)...); err != nil {
			w.t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(folder, other+".json"), bytes.ReplaceAll(kept, []byte(id), []byte(other)), 0o600); err != nil {
			w.t.Fatal(err)
		}
	}
	if err := tx.Commit(); err != nil {
		w.t.Fatal(err)
	}
}

// use is what the service has used of a processor, and its memory.
func (w *world) use() (cpu time.Duration, rssBytes int64) {
	w.t.Helper()
	pid := strconv.Itoa(w.service.Process.Pid)
	stat, err := os.ReadFile("/proc/" + pid + "/stat")
	if err != nil {
		w.t.Fatal(err)
	}
	f := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))
	user, _ := strconv.ParseInt(f[11], 10, 64)
	system, _ := strconv.ParseInt(f[12], 10, 64)
	pages, _ := strconv.ParseInt(f[21], 10, 64)
	return time.Duration(user+system) * 10 * time.Millisecond, pages * int64(os.Getpagesize())
}

// rest waits until the service uses next to nothing of a processor.
func (w *world) rest() {
	w.t.Helper()
	for end := time.Now().Add(20 * time.Minute); time.Now().Before(end); {
		before, _ := w.use()
		time.Sleep(time.Second)
		if after, _ := w.use(); after-before < 50*time.Millisecond {
			return
		}
	}
	w.t.Fatal("the service does not come to rest")
}

// BenchmarkResident: a service with many workspaces that all run: its memory
// and processor at rest, the time of a start, and of one change of state. Each
// may grow no faster than their number.
func BenchmarkResident(b *testing.B) {
	per := map[string]float64{}
	for _, n := range []int{1_000, 10_000, 100_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			w := simWorld(b)
			w.must(w.as("ingrid", "", "launch", "berth-planner", "--name", "first"), 0)
			w.kill()
			w.multiply("first", n)
			began := time.Now()
			w.start()
			open := time.Since(began)
			w.rest()
			settled := time.Since(began) - time.Second
			cpu, _ := w.use()
			time.Sleep(20 * time.Second)
			after, rss := w.use()
			c := w.client("ingrid")
			began = time.Now()
			const changes = 5
			for range changes {
				for _, do := range []func(context.Context, string) (wire.Workspace, error){c.Workspaces.Stop, c.Workspaces.Start} {
					if _, err := do(context.Background(), "first"); err != nil {
						b.Fatal(err)
					}
					want := "stopped"
					if ws, err := c.Workspaces.Show(context.Background(), "first"); err == nil && ws.Wanted == "ready" {
						want = "ready"
					}
					w.until(c, "first", time.Minute, inPhase(want))
				}
			}
			change := time.Since(began) / (2 * changes)
			for what, v := range map[string]float64{"s/start": open.Seconds(), "s/settled": settled.Seconds(), "MiB": float64(rss) / (1 << 20), "cpu-at-rest-%": (after - cpu).Seconds() / 20 * 100, "ms/change": change.Seconds() * 1000} {
				b.ReportMetric(v, what)
				// Twice ten times: one run is no more exact. Small numbers are mostly
				// what there is without any workspace.
				if old := per[what]; old > 0 && v > 20*old && n > 1000 && v > map[string]float64{"cpu-at-rest-%": 5, "ms/change": 500}[what] {
					b.Errorf("with ten times as many %s goes from %.2f to %.2f", what, old, v)
				}
				per[what] = v
			}
			b.ReportMetric(0, "ns/op")
		})
	}
}

// BenchmarkWatchers: a thousand who watch the event stream, while workspaces
// change: each is told of each, and it costs little.
func BenchmarkWatchers(b *testing.B) {
	w := simWorld(b)
	c := w.client("ingrid")
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--name", "first"), 0)
	_, before := w.use()
	ctx, stop := context.WithCancel(b.Context())
	var told atomic.Int64
	var wg sync.WaitGroup
	const watchers, changes = 1000, 10
	for range watchers {
		wg.Go(func() {
			_ = c.Watch(ctx, func() (bool, error) { told.Add(1); return false, nil }) // ends with stop
		})
	}
	for end := time.Now().Add(time.Minute); told.Load() < watchers && time.Now().Before(end); {
		time.Sleep(20 * time.Millisecond)
	}
	w.rest()
	cpu, with := w.use()
	told.Store(0)
	began := time.Now()
	for i := range changes {
		if _, err := c.Workspaces.Hold(ctx, "first", wire.Hold{Seconds: int64(600 + i), Why: "a test"}); err != nil {
			b.Fatal(err)
		}
		for want := int64(watchers * (i + 1)); told.Load() < want; time.Sleep(2 * time.Millisecond) {
			if time.Since(began) > time.Minute {
				b.Fatalf("of %d only %d were told", want, told.Load())
			}
		}
	}
	took := time.Since(began) / changes
	after, _ := w.use()
	stop()
	wg.Wait()
	b.ReportMetric(took.Seconds()*1000, "ms/all-told")
	b.ReportMetric((after-cpu).Seconds()*1e6/(watchers*changes), "cpu-µs/news")
	b.ReportMetric(float64(with-before)/watchers/1024, "KiB/watcher")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkWatchersOfNothing: a thousand event streams of developers who own
// nothing that changes, while somebody else's workspace changes ten times a
// second: what they cost beside the same changes without them.
func BenchmarkWatchersOfNothing(b *testing.B) {
	w := simWorld(b)
	c := w.client("ingrid")
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--name", "first"), 0)
	const watchers, seconds = 1000, 20
	changes := func() (cpu time.Duration) {
		w.rest()
		before, _ := w.use()
		tick := time.NewTicker(100 * time.Millisecond)
		defer tick.Stop()
		for i := range 10 * seconds {
			<-tick.C
			if _, err := c.Workspaces.Hold(b.Context(), "first", wire.Hold{Seconds: int64(600 + i), Why: "a test"}); err != nil {
				b.Fatal(err)
			}
		}
		after, _ := w.use()
		return after - before
	}
	alone := changes()
	ctx, stop := context.WithCancel(b.Context())
	var open, told atomic.Int64
	var wg sync.WaitGroup
	var developers []*yb.Client
	for _, name := range []string{"peder", "mats", "marit", "nora"} {
		developers = append(developers, w.client(name))
	}
	for i := range watchers {
		who := developers[i%len(developers)]
		wg.Go(func() {
			first := true
			_ = who.Watch(ctx, func() (bool, error) { // ends with stop
				if first {
					open.Add(1)
				} else {
					told.Add(1)
				}
				first = false
				return false, nil
			})
		})
	}
	for end := time.Now().Add(time.Minute); open.Load() < watchers && time.Now().Before(end); {
		time.Sleep(20 * time.Millisecond)
	}
	with := changes()
	stop()
	wg.Wait()
	if open.Load() != watchers || told.Load() > 5*watchers { // a beat each 20 seconds
		b.Errorf("%d of %d watched, and were told of %d things", open.Load(), watchers, told.Load())
	}
	b.ReportMetric((with-alone).Seconds()/seconds*100, "cpu-%")
	b.ReportMetric(alone.Seconds()/seconds*100, "cpu-%-alone")
	b.ReportMetric(0, "ns/op")
}
