package test

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	yb "yardbench/client"
	"yardbench/wire"
)

// cuts is how often the power goes in TestPowerLoss: a few times in make test,
// as often as POWER_CUTS says in make soak.
func cuts() int {
	if n, err := strconv.Atoi(os.Getenv("POWER_CUTS")); err == nil && n > 0 {
		return n
	}
	return 3
}

// cutDisk is a file system in a file. What its file holds is what a disk would
// hold when the power goes: what was synced, and of the rest what happened to
// be written back.
type cutDisk struct {
	t           *testing.T
	image, at   string
	generations int
}

func newCutDisk(t *testing.T, dir, at string) *cutDisk {
	t.Helper()
	d := &cutDisk{t: t, image: filepath.Join(dir, "disk"), at: at}
	if err := os.MkdirAll(at, 0o700); err != nil {
		t.Fatal(err)
	}
	f, err := os.Create(d.image)
	if err == nil {
		err = f.Truncate(512 << 20)
		f.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	d.command("mkfs.ext4", "-q", "-F", d.image)
	d.mount()
	t.Cleanup(func() { _ = exec.Command("umount", "-l", d.at).Run() }) // it may be unmounted
	return d
}

// worldOnDisk is a world over a simulated yard whose data is on such a disk. The
// service is not started yet.
func worldOnDisk(t *testing.T) (*world, *cutDisk) {
	t.Helper()
	if os.Getenv("YARDBENCH_TEST_BINARY") == "" {
		t.Skip("needs the built binary: run it by `make test`")
	}
	if !bounded() {
		t.Skip("needs loop devices and mkfs.ext4, as root")
	}
	w := &world{t: t, engine: "sim:skerryline/base:1", config: map[string]string{}}
	dir, err := os.MkdirTemp("", "ybp-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	w.dir, w.bare = dir, filepath.Join(dir, "git")
	w.hostGit()
	return w, newCutDisk(t, dir, filepath.Join(dir, "data"))
}

func (d *cutDisk) command(name string, args ...string) {
	d.t.Helper()
	if out, err := exec.Command(name, args...).CombinedOutput(); err != nil {
		d.t.Fatalf("%s %v: %v: %s", name, args, err, out)
	}
}

// mount mounts it so that nothing is written back but what is synced, as far
// as the kernel lets one say that.
func (d *cutDisk) mount() {
	d.t.Helper()
	d.command("mount", "-o", "loop,commit=300", d.image, d.at)
}

// cut takes the power away while the service stands still wherever it is, and
// gives it back.
func (d *cutDisk) cut(w *world) {
	d.t.Helper()
	pids := standStill(w.service.Process.Pid)
	d.generations++
	next := filepath.Join(filepath.Dir(d.image), fmt.Sprint("disk-", d.generations))
	d.command("cp", "--sparse=always", d.image, next)
	for _, pid := range pids[1:] {
		_ = syscall.Kill(pid, syscall.SIGKILL) // it may have ended
	}
	w.kill()
	d.command("umount", "-l", d.at)
	old := d.image
	d.image = next
	d.mount()
	if err := os.Remove(old); err != nil {
		d.t.Fatal(err)
	}
}

// standStill stops a process and its children, and waits until no thread of
// theirs is inside the kernel any more.
func standStill(pid int) (all []int) {
	all = []int{pid}
	_ = syscall.Kill(pid, syscall.SIGSTOP)
	tasks, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*", pid))
	for _, t := range tasks {
		for end := time.Now().Add(5 * time.Second); time.Now().Before(end); time.Sleep(time.Millisecond) {
			stat, err := os.ReadFile(filepath.Join(t, "stat"))
			if err != nil || bytes.Contains(stat[bytes.LastIndexByte(stat, ')'):], []byte(") T")) {
				break
			}
		}
		children, _ := os.ReadFile(filepath.Join(t, "children"))
		for _, c := range strings.Fields(string(children)) {
			if n, err := strconv.Atoi(c); err == nil {
				all = append(all, standStill(n)...)
			}
		}
	}
	return all
}

// The power goes while people work, again and again, and all that was not
// synced is lost with it: whatever was answered holds all the same, the heads
// of the journal that were given out are still true, and the service comes up
// and goes on. The yard is another machine here, which has power.
func TestPowerLoss(t *testing.T) {
	w, disk := worldOnDisk(t)
	dir := w.dir
	elsewhere := filepath.Join(dir, "yard")
	if err := os.Mkdir(elsewhere, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(elsewhere, filepath.Join(dir, "data", "simulated-yard")); err != nil {
		t.Fatal(err)
	}
	disk.command("sync", "-f", disk.at) // the yard's place was there before
	seed := uint64(time.Now().UnixNano())
	if n, err := strconv.ParseUint(os.Getenv("POWER_SEED"), 10, 64); err == nil {
		seed = n
	}
	r := rand.New(rand.NewPCG(seed, 3))
	t.Cleanup(func() {
		w.kill()
		if t.Failed() {
			t.Logf("the seed was %d; the service said:\n%s", seed, w.output)
		}
	})
	w.startSim(seed, 0)
	people := []string{"ingrid", "mats", "marit", "peder"}
	var mu sync.Mutex
	accepted, heads := map[string]bool{}, []string{}
	for n := range cuts() {
		clients := map[string]*yb.Client{}
		for _, p := range append(people, "astrid") {
			clients[p] = w.client(p)
		}
		ctx, stop := context.WithCancel(t.Context())
		var wg sync.WaitGroup
		for i, p := range people {
			mine := rand.New(rand.NewPCG(seed+uint64(n), uint64(i)))
			wg.Go(func() {
				for ctx.Err() == nil {
					if id := asks(ctx, clients, p, mine); id != "" {
						mu.Lock()
						accepted[id] = true
						mu.Unlock()
					}
				}
			})
		}
		wg.Go(func() {
			for ctx.Err() == nil {
				if h, err := clients["astrid"].Journal.Head(ctx); err == nil {
					mu.Lock()
					heads = append(heads, h.Line)
					mu.Unlock()
				}
				time.Sleep(20 * time.Millisecond)
			}
		})
		began := func() int { mu.Lock(); defer mu.Unlock(); return len(accepted) }
		for end, had := time.Now().Add(slack*5*time.Second), began(); began() == had && time.Now().Before(end); {
			time.Sleep(20 * time.Millisecond) // before anything was answered there is nothing to lose
		}
		time.Sleep(time.Duration(r.IntN(1500)) * time.Millisecond)
		disk.cut(w)
		stop()
		wg.Wait()
		w.startSim(seed, 0)
		astrid := w.client("astrid")
		w.quiet(astrid)
		v, err := astrid.Journal.Verify(t.Context(), heads[max(0, len(heads)-1000):])
		if err != nil || len(v.Problems) > 0 {
			t.Fatalf("after cut %d the journal is %+v, %v", n+1, v, err)
		}
	}
	// What may be made again after a cut can be: a launch from each repository.
	ingrid := w.client("ingrid")
	for _, ws := range func() []wire.WorkspaceRow { all, _ := ingrid.Workspaces.List(t.Context(), yb.ListQuery{}); return all }() {
		if _, err := ingrid.Workspaces.Remove(t.Context(), ws.Name, true); err != nil {
			t.Error(err)
		}
	}
	w.quiet(w.client("astrid"))
	for _, repository := range []string{"tide-board", "fare-desk", "gull-count"} {
		w.must(w.as("ingrid", "", "launch", repository, "--name", "after"), 0, "is ready")
		w.must(w.as("ingrid", "", "remove", "after", "--yes", "--discard"), 0)
	}
	_ = w.service.Process.Signal(syscall.SIGTERM)
	if err := w.service.Wait(); err != nil {
		t.Errorf("the service ended with %v", err)
	}
	db := openDatabase(t, filepath.Join(w.dir, "data", "yardbench.db"))
	for id := range accepted {
		var name string
		if err := db.QueryRow("SELECT name FROM workspaces WHERE id = ?", id).Scan(&name); err != nil {
			t.Errorf("the launch of %s was accepted, and is lost: %v", id, err)
		}
	}
	if len(accepted) < 3 || len(heads) < 3 {
		t.Errorf("only %d launches were accepted, and %d heads given", len(accepted), len(heads))
	}
	db.Close()
	w.invariants()
	t.Logf("%d cuts, %d launches accepted, %d heads given", cuts(), len(accepted), len(heads))
}
