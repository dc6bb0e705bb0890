package test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	yb "yardbench/client"
	"yardbench/wire"
)

// One address for many: each gets a workspace of their own, once, however many ask and
// however often at once; it is counted, paused, bounded, and ends with who made it.
func TestLaunchLinks(t *testing.T) {
	t.Parallel()
	w := simWorld(t)
	ctx := context.Background()
	runa := w.client("runa")
	link, err := runa.LaunchLinks.Make(ctx, wire.NewLaunchLink{Title: "Try the <b>tide</b> board", Launch: wire.Launch{Repository: "tide-board", Size: "small"}})
	if err != nil {
		t.Fatal(err)
	}
	people := []string{"ingrid", "jonas", "sigrid", "eskil", "tuva", "mats", "torbjorn", "liv", "hauk", "embla", "marit", "oddvar", "nora", "even", "peder", "frida", "aksel", "vilde", "stian", "solveig"}
	clients := map[string]*yb.Client{}
	for _, name := range people {
		clients[name] = w.client(name)
	}
	var mu sync.Mutex
	fresh, of := map[string]int{}, map[string]map[string]bool{}
	var wg sync.WaitGroup
	for _, name := range people {
		of[name] = map[string]bool{}
		for range 5 { // a hundred in all
			wg.Go(func() {
				got, err := clients[name].LaunchLinks.Use(ctx, link.ID)
				mu.Lock()
				defer mu.Unlock()
				if err != nil {
					t.Errorf("%s: %v", name, err)
					return
				}
				if of[name][got.Workspace] = true; got.Fresh {
					fresh[name]++
				}
			})
		}
	}
	wg.Wait()
	for _, name := range people {
		all, err := clients[name].Workspaces.List(ctx, yb.ListQuery{})
		if err != nil || len(all) != 1 || fresh[name] != 1 || len(of[name]) != 1 {
			t.Errorf("%s has %d workspaces, %d launched, led to %v (%v)", name, len(all), fresh[name], of[name], err)
		}
	}
	uses, err := runa.LaunchLinks.Uses(ctx, link.ID)
	if err != nil || len(uses) != len(people) {
		t.Errorf("%d used it, %v", len(uses), err)
	}

	// What is nobody's business, and what is over.
	refused := func(who, id string, status int) {
		t.Helper()
		_, err := w.client(who).LaunchLinks.Use(ctx, id)
		if p := wire.ProblemOf(err); p == nil || p.Status != status {
			t.Errorf("%s: %v, not %d", who, err, status)
		}
	}
	refused("audun", link.ID, 403)
	refused("ingrid", "nosuchlink", 404)
	if _, err := clients["mats"].LaunchLinks.Uses(ctx, link.ID); err == nil {
		t.Error("somebody else sees who used it")
	}
	yes, one := true, 1
	if _, err := runa.LaunchLinks.Change(ctx, link.ID, wire.LaunchLinkChange{Paused: &yes}); err != nil {
		t.Fatal(err)
	}
	refused("bjarne", link.ID, 409)
	bounded, err := runa.LaunchLinks.Make(ctx, wire.NewLaunchLink{Launch: wire.Launch{Repository: "tide-board"}, Team: "Timetable", PeopleMost: 1})
	if err != nil {
		t.Fatal(err)
	}
	refused("mats", bounded.ID, 403) // of another team
	if got, err := clients["jonas"].LaunchLinks.Use(ctx, bounded.ID); err != nil || !got.Fresh {
		t.Errorf("within its team: %+v, %v", got, err)
	}
	refused("sigrid", bounded.ID, 409) // used by as many as may
	if got, err := clients["jonas"].LaunchLinks.Use(ctx, bounded.ID); err != nil || got.Fresh {
		t.Errorf("who has one goes on: %+v, %v", got, err)
	}
	if _, err := runa.LaunchLinks.Make(ctx, wire.NewLaunchLink{Launch: wire.Launch{Repository: "tide-board", Branch: "no-such-branch"}}); err == nil {
		t.Error("a link to what cannot be is made")
	}
	if _, err := clients["ingrid"].LaunchLinks.Change(ctx, link.ID, wire.LaunchLinkChange{PeopleMost: &one}); err == nil {
		t.Error("somebody else changes it")
	}

	// As people meet it.
	w.must(w.as("ingrid", "", "launch-link", "list"), 0, "there are none")
	made := w.must(w.as("solveig", "", "launch-link", "add", "tide-board", "--title", "The board", "--for", "48h"), 0, "/go/")
	at := strings.TrimSpace(made)
	p := w.page(t, "bjarne")
	p.do("what it comes to, and one press", chromedp.Navigate(at), p.says("The board"), p.says("a launch link of solveig"), p.says("Before the launch"), button("Launch it"), holds(`location.pathname === "/bench/tide-board.bjarne"`))
	p.do("who comes again is led back", chromedp.Navigate(at), p.says("You have tide-board by this link"), button("Enter it"), holds(`location.pathname === "/bench/tide-board.bjarne"`))
	s := w.page(t, "solveig")
	s.do("she sees who came", chromedp.Navigate(w.address+"/launch-links"), s.says("The board"), clicked(`//button[contains(@class, "ant-table-row-expand-icon")]`), s.says("bjarne"), holds(`[...document.images].some((i) => i.src.endsWith("badge.svg") && i.naturalWidth > 50) && [...document.images].some((i) => i.src.endsWith("qr.png") && i.naturalWidth > 100)`))
	s.do("and makes one of a choice", chromedp.Navigate(w.address+"/launch?repository=fare-desk"), seen(`[data-ahead="fare-desk"]`), button("Make a launch link…"), seen("#title"), still("#title"), chromedp.SendKeys(chromedp.CSS("#title"), "Fares by night"), modal(), s.says("/go/"), s.says("For a README"))
	r := w.page(t, "runa")
	r.do("markup in a title is a text", chromedp.Navigate(w.address+"/launch-links"), r.says("Try the <b>tide</b> board"), clicked(`(//button[contains(@class, "ant-table-row-expand-icon")])[2]`), holds(fmt.Sprintf(`[...document.images].some((i) => i.src.includes("%s") && i.naturalWidth > 50)`, link.ID)))

	w.must(w.as("astrid", "", "person", "change", "solveig", "--role", "auditor"), 0)
	refused("nora", at[strings.LastIndex(at, "/")+1:], 409) // who may make none any more has none
	w.must(w.as("astrid", "", "person", "change", "solveig", "--role", "lead"), 0)
	if got, err := w.client("even").LaunchLinks.Use(ctx, at[strings.LastIndex(at, "/")+1:]); err != nil || !got.Fresh {
		t.Errorf("who may again has it again: %+v, %v", got, err)
	}
	w.must(w.as("astrid", "", "person", "close", "solveig", "--yes"), 0)
	id := at[strings.LastIndex(at, "/")+1:]
	began := time.Now()
	refused("nora", id, 409)
	if took := time.Since(began); took > slack*2*time.Second {
		t.Errorf("it ended after %v", took)
	}
}
