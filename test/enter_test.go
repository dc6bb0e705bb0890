package test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"yardbench/internal/browser"
	"yardbench/wire"
)

// Where the house rules let operators, they enter somebody else's workspace with a
// reason: with nothing of the owner's, who reads who came and why. It ends with their
// right.
func TestOperatorsEnterWithAReason(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	c := w.client("ingrid")
	w.must(w.as("ingrid", "hush-of-ingrid", "secret", "put", "TIDE_KEY", "--everywhere"), 0)
	w.must(w.as("ingrid", "", "me", "git-key", "--new"), 0)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	enter := func(who, why string) result {
		return w.as(who, "", "run", "--why", why, "quay.ingrid", "--", "sh", "-c", `echo key:$TIDE_KEY. agent:$SSH_AUTH_SOCK. by:$YARDBENCH_OWNER. as:$(id -un) git:$(git config user.email).; pwd; git push --quiet 2>/dev/null && echo pushed`)
	}
	w.must(enter("astrid", "her build hangs"), 125, "nobody enter the workspaces of others")
	w.rules("\nsign_in:", "\nworkspaces: {enter: operators}\nsign_in:")
	w.must(w.as("astrid", "", "run", "quay.ingrid", "--", "true"), 125, "does not allow you")
	w.must(enter("astrid", " "), 125, "the reason is missing", "--why")
	w.must(enter("runa", "her build hangs"), 125, "does not allow you to enter")
	w.must(enter("jonas", "her build hangs"), 125)
	if got := enter("astrid", "her build hangs, and she asked"); got.code == 0 || !strings.Contains(got.out, "key:. agent:. by:. as:crew git:.\n/workspaces/tide-board\n") || strings.Contains(got.out, "pushed") {
		t.Errorf("who enters is given %v", got)
	}
	w.must(w.as("ingrid", "", "show", "quay"), 0, "astrid came in as an operator: her build hangs, and she asked")
	w.must(enter("astrid", "once more"), 128)
	w.must(w.as("ingrid", "", "show", "quay"), 0, "she asked; astrid came in as an operator: once more")
	w.must(w.as("astrid", "", "heed", "quay.ingrid"), 4, "does not allow you") // it is ingrid's to have read
	w.must(w.as("ingrid", "", "journal", "list", "--workspace", "quay", "--kind", "workspace.entered"), 0, "astrid", "her build hangs")
	w.must(w.as("ingrid", "", "run", "--why", "no need", "quay", "--", "sh", "-c", "echo key:$TIDE_KEY."), 0, "key:hush-of-ingrid.")

	// Whoever says that they come back, and does not, is told of like any other, or gets nothing.
	astrid := w.client("astrid")
	for n, in := range []wire.Run{{Argv: []string{"true"}, Life: "x"}, {Argv: []string{"true"}, Life: "x", Typist: "t"}, {Life: "x", Columns: 80, Rows: 24}} {
		in.Reason = fmt.Sprint("unseen ", n)
		s, err := astrid.Workspaces.Open(t.Context(), "quay.ingrid", in)
		if err == nil {
			s.Close()
		}
		if out := w.as("ingrid", "", "show", "quay").out; err == nil && !strings.Contains(out, in.Reason) {
			t.Errorf("with %+v nobody is told: %s", in, out)
		}
	}

	// A terminal of its own, which its owner sees, and joins.
	s, err := astrid.Workspaces.Open(t.Context(), "quay.ingrid", wire.Run{Reason: "to look", Columns: 80, Rows: 24})
	if err != nil {
		t.Fatal(err)
	}
	w.must(w.as("ingrid", "", "terminal", "list", "quay"), 0, "by-astrid")
	s.Close()
	// One of the owner's is never joined so.
	hers, err := c.Workspaces.Open(t.Context(), "quay", wire.Run{Terminal: "second", Columns: 80, Rows: 24})
	if err != nil {
		t.Fatal(err)
	}
	defer hers.Close()
	s, err = astrid.Workspaces.Open(t.Context(), "quay.ingrid", wire.Run{Reason: "to look", Terminal: "second", Columns: 80, Rows: 24})
	if err != nil {
		t.Fatal(err)
	}
	w.must(w.as("ingrid", "", "terminal", "list", "quay"), 0, "second", "by-astrid-second")
	s.Close()

	// In the console: a reason is asked for each time, and nothing is there for whoever may not.
	p := w.page(t, "astrid")
	p.do("a reason is asked for", chromedp.Navigate(w.address+"/workspaces/quay.ingrid"), clicked(`//a[.="Come in…"]`), p.says("You get a terminal of your own in it"), button("Come in"), p.says("Say why, in one line"))
	p.do("she comes in with one", chromedp.SendKeys(chromedp.CSS("#reason"), "to look in the console\r"), p.says("ingrid is told as you come in: to look in the console"), seen(".xterm-screen"), p.says("crew@quay"))
	w.until(c, "quay", slack*10*time.Second, func(ws wire.Workspace) bool {
		return strings.Contains(condition(ws, "notice"), "to look in the console")
	})
	p.do("and types, and is asked again where it is opened again", browser.TypeLine("echo of-astrid:$TIDE_KEY."), p.says("of-astrid:.\n"), chromedp.Reload(), p.says("You get a terminal of your own in it"))
	w.rules("\nworkspaces: {enter: operators}", "")
	p.do("nobody enters where the rules say so", chromedp.Navigate(w.address+"/workspaces/quay.ingrid"), p.says("Launch sheet"), holds(`!document.body.innerText.includes("Come in")`))
	w.rules("\nsign_in:", "\nworkspaces: {enter: operators}\nsign_in:")

	// It ends with their right.
	began := make(chan result, 1)
	go func() {
		began <- w.as("haldor", "", "run", "--why", "to wait", "quay.ingrid", "--", "sh", "-c", "echo here; sleep 60")
	}()
	w.until(c, "quay", 20*time.Second, func(ws wire.Workspace) bool { return strings.Contains(condition(ws, "notice"), "haldor came in") })
	time.Sleep(time.Second)
	since := time.Now()
	w.must(w.as("astrid", "", "person", "change", "haldor", "--role", "developer"), 0)
	if got := <-began; got.code == 0 || time.Since(since) > slack*2*time.Second {
		t.Errorf("it ended after %s with %v", time.Since(since), got)
	}
}
