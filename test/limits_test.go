package test

import (
	"context"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/moby/moby/client"

	"yardbench/wire"
)

// Two hundred launches at the same time where there is room for three: three
// come up, in the size they were given, and the others are told why.
func TestTwoHundredLaunchesAtOnce(t *testing.T) {
	w := newWorld(t)
	w.rules("person: {existing: 5, running: 3, cores: 6, memory: 12 GiB}", "person: {running: 3}", "small:  {cores: 1, memory: 1 GiB", "small:  {cores: 0.5, memory: 256 MiB")
	c := w.client("ingrid")
	errs := make([]error, 200)
	var wg sync.WaitGroup
	for n := range errs {
		wg.Go(func() {
			_, errs[n] = c.Workspaces.Launch(context.Background(), wire.Launch{Repository: "berth-planner"})
		})
	}
	wg.Wait()
	accepted := 0
	for _, err := range errs {
		switch {
		case err == nil:
			accepted++
		case !strings.Contains(err.Error(), "running, ingrid: 3 used + 1 asked of 3 allowed"):
			t.Fatalf("a launch is refused with %v", err)
		}
	}
	if accepted != 3 {
		t.Fatalf("%d launches were accepted", accepted)
	}
	for _, name := range []string{"berth-planner", "berth-planner-2", "berth-planner-3"} {
		ws := w.until(c, name, 60*time.Second, inPhase("ready"))
		if ws.CoresMilli != 500 || ws.Size != "small" {
			t.Errorf("%s has %+v", name, ws)
		}
	}
	cli := w.docker()
	defer cli.Close()
	list, err := cli.ContainerList(context.Background(), client.ContainerListOptions{Filters: client.Filters{}.Add("label", "yardbench.installation="+w.installation())})
	if err != nil || len(list.Items) != 3 {
		t.Fatalf("the engine runs %d containers, %v", len(list.Items), err)
	}
	in, err := cli.ContainerInspect(context.Background(), list.Items[0].ID, client.ContainerInspectOptions{})
	if err != nil || in.Container.HostConfig.NanoCPUs != 5e8 || in.Container.HostConfig.Memory != 256<<20 || in.Container.HostConfig.MemorySwap != 256<<20 {
		t.Errorf("the engine bounds it to %d, %d, %d, %v", in.Container.HostConfig.NanoCPUs, in.Container.HostConfig.Memory, in.Container.HostConfig.MemorySwap, err)
	}
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--dry-run"), 4, "running, ingrid: 3 used + 1 asked of 3 allowed — over")
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--size", "huge"), 4, "the house rules have: small, middle, large")
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--rest-after", "11h"), 4, "at most 10 h")
	w.must(w.as("ingrid", "", "stop", "berth-planner-2"), 0)
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--name", "fourth"), 0)
	w.must(w.as("ingrid", "", "start", "berth-planner-2"), 4, "3 used + 1 asked", "stop one of yours that runs: berth-planner, berth-planner-3, fourth")
}
