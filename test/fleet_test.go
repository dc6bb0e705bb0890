package test

import (
	"context"
	"testing"

	"github.com/chromedp/chromedp"
)

// A fleet that changes is seen as it does: each changed row comes by itself, and
// the list is not read again for it.
func TestAFleetThatChanges(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	astrid := w.page(t, "astrid")
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--name", "before"), 0)
	astrid.do("the fleet", chromedp.Navigate(w.address+"/fleet"), astrid.says("before"), seen(`[data-phase="ready"]`))
	const reads = `performance.getEntriesByType("resource").filter(e => e.name.includes("/api/v1/workspaces?")).length`
	count := func() int {
		n, err := chromedp.Run(astrid.ctx, chromedp.Evaluate[int](reads))
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	began := count()
	act := func(args ...string) chromedp.Action[chromedp.Void] {
		return chromedp.Func(func(context.Context, *chromedp.Target) error {
			w.must(w.as("ingrid", "", args...), 0)
			return nil
		})
	}
	astrid.do("one stops", act("stop", "before"), seen(`[data-phase="stopped"]`))
	astrid.do("one comes", act("launch", "deck-log", "--name", "new-here"), astrid.says("new-here"), seen(`[data-phase="ready"]`))
	astrid.do("one goes", act("remove", "before", "--yes"), astrid.says("1 shown, 1 ready"))
	astrid.do("the other goes", act("remove", "new-here", "--yes"), astrid.says("There is no workspace yet"))
	if n := count(); n != began {
		t.Errorf("the list was read %d times more", n-began)
	}
}
