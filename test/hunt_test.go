package test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	yb "yardbench/client"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/store"
	"yardbench/internal/yard"
	"yardbench/test/held"
	"yardbench/wire"
)

// hunts is how many rounds of TestHunt there are: a few in make test, as many
// as HUNTS says in make soak.
func hunts() int {
	if n, err := strconv.Atoi(os.Getenv("HUNTS")); err == nil && n > 0 {
		return n
	}
	return 2
}

// Random people and operators, a yard that does not always answer, and the
// real service killed in the middle again and again: when all is quiet,
// nothing is lost, doubled or left behind.
func TestHunt(t *testing.T) {
	if os.Getenv("YARDBENCH_TEST_BINARY") == "" {
		t.Skip("needs the built binary: run it by `make test`")
	}
	first := uint64(1)
	if n, err := strconv.ParseUint(os.Getenv("HUNT_SEED"), 10, 64); err == nil {
		first = n // to look at one again
	}
	for seed := first; seed < first+uint64(hunts()); seed++ {
		if !t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) { hunt(t, seed) }) {
			return
		}
	}
}

func hunt(t *testing.T, seed uint64) {
	w := simWorld(t)
	w.kill()
	r := rand.New(rand.NewPCG(seed, 7))
	w.startSim(seed, 40)

	people := []string{"ingrid", "mats", "marit", "peder"}
	clients := map[string]*yb.Client{}
	for _, p := range append(people, "astrid") {
		clients[p] = w.client(p)
	}
	ctx, stop := context.WithCancel(t.Context())
	var wg sync.WaitGroup
	for i, p := range people {
		mine := rand.New(rand.NewPCG(seed, uint64(i)))
		wg.Go(func() {
			for ctx.Err() == nil {
				asks(ctx, clients, p, mine)
			}
		})
	}
	for range 4 {
		time.Sleep(time.Duration(300+r.IntN(900)) * time.Millisecond)
		w.kill()
		w.startSim(seed, 40)
	}
	time.Sleep(500 * time.Millisecond)
	stop()
	wg.Wait()
	// The faults end; what was begun comes to an end.
	w.kill()
	w.startSim(seed, 0)
	w.quiet(clients["astrid"])
	_ = w.service.Process.Signal(syscall.SIGTERM)
	if err := w.service.Wait(); err != nil {
		t.Errorf("the service ended with %v", err)
	}
	w.invariants()
	if t.Failed() {
		t.Logf("look at it again with HUNT_SEED=%d; the service said:\n%s", seed, w.output)
	}
}

// asks has a person, or an operator for them, ask for this or that. Refusals
// and a service that is away are no news. It gives the id of a launch that was
// accepted.
func asks(ctx context.Context, clients map[string]*yb.Client, person string, r *rand.Rand) (launched string) {
	c := clients[person]
	if r.IntN(6) == 0 {
		c = clients["astrid"]
	}
	name := fmt.Sprint("w", r.IntN(3))
	ref := name + "." + person
	ask, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	switch r.IntN(8) {
	case 0, 1:
		w, _ := clients[person].Workspaces.Launch(ask, wire.Launch{Repository: []string{"tide-board", "fare-desk", "gull-count", "berth-planner"}[r.IntN(4)], Name: name})
		launched = w.ID
	case 2:
		_, _ = c.Workspaces.Stop(ask, ref)
	case 3:
		_, _ = c.Workspaces.Start(ask, ref)
	case 4:
		_, _ = c.Workspaces.Rebuild(ask, ref, wire.Rebuild{NewFiles: r.IntN(2) == 0, Discard: true})
	case 5:
		_, _ = c.Workspaces.Remove(ask, ref, true)
	case 6:
		_, _ = c.Workspaces.Hold(ask, ref, wire.Hold{Seconds: 600, Why: "a test"})
	case 7:
		in := wire.NewOperation{Verb: []string{"start", "stop", "rebuild", "remove", "tell"}[r.IntN(5)], Where: &wire.WorkspaceWhere{Owner: person}, Reason: "a test"}
		in.Discard = in.Verb == "remove"
		_, _ = clients[person].Operations.Ask(ask, in)
	}
	time.Sleep(time.Duration(r.IntN(60)) * time.Millisecond)
	return launched
}

// startSim starts the service over the simulated yard.
func (w *world) startSim(seed uint64, faults int) {
	w.t.Helper()
	w.more = []string{"--changes-per-hour", "0", "--sim-fast", "--sim-seed", fmt.Sprint(seed), "--sim-faults", fmt.Sprint(faults), "--trail", filepath.Join(w.dir, "trail")}
	w.start()
}

// quiet waits until nothing is under way.
func (w *world) quiet(c *yb.Client) {
	w.t.Helper()
	var last string
	for end := time.Now().Add(slack * 20 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		all, err := c.Workspaces.List(context.Background(), yb.ListQuery{All: true})
		if err != nil {
			last = err.Error()
			continue
		}
		last = ""
		for _, ws := range all {
			if !lifecycle.Phase(ws.Phase).Settled() || slices.ContainsFunc(ws.Conditions, func(c wire.Condition) bool { return c.Kind == "rebuilding" }) {
				last += fmt.Sprintf("%s.%s is %s; ", ws.Name, ws.Owner, ws.Phase)
			}
		}
		operations, err := c.Operations.List(context.Background())
		if err != nil {
			last = err.Error()
		}
		for _, o := range operations {
			if o.EndedAt == nil {
				last += fmt.Sprintf("operation %s of %s is not over: %+v; ", o.Verb, o.By, o)
			}
		}
		if last == "" {
			return
		}
	}
	w.t.Fatalf("it does not come to rest: %s\n%s", last, w.output)
}

// invariants holds the records, the journal and the yard against each other.
func (w *world) invariants() {
	w.t.Helper()
	ctx := context.Background()
	st, err := store.Open(ctx, filepath.Join(w.dir, "data", "yardbench.db"), time.Now)
	if err != nil {
		w.t.Fatal(err)
	}
	defer st.Close()
	kept, err := filepath.Glob(filepath.Join(w.dir, "data", "simulated-yard", "workspaces", "*.json"))
	if err != nil {
		w.t.Fatal(err)
	}
	has := map[string]yard.Observation{}
	for _, file := range kept {
		var h struct {
			Volumes map[int]bool
			Bodies  map[int]struct{ State lifecycle.Body }
		}
		text, err := os.ReadFile(file)
		if err == nil {
			err = json.Unmarshal(text, &h)
		}
		if err != nil {
			w.t.Fatal(err)
		}
		o := yard.Observation{Volumes: h.Volumes, Bodies: map[int]lifecycle.Body{}}
		for n, b := range h.Bodies {
			o.Bodies[n] = b.State
		}
		has[strings.TrimSuffix(filepath.Base(file), ".json")] = o
	}
	wrong, launches, entries, err := held.Together(ctx, st.Read(), has, held.Limits{Existing: 5, Running: 3})
	if err != nil || launches < 3 {
		w.t.Fatalf("of %d launches: %v", launches, err)
	}
	for _, p := range wrong {
		w.t.Error(p)
	}
	w.t.Logf("%d launches, %d journal entries", launches, entries)
	// Whenever it was killed, what followed it at the second place is whole.
	had := filepath.Join(w.t.TempDir(), "kept")
	w.must(w.operate("backup", "from-trail", filepath.Join(w.dir, "trail"), had), 0)
	w.must(w.operate("backup", "verify", had), 0, "it is whole")
}
