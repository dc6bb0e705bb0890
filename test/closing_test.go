package test

import (
	"context"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	yb "yardbench/client"
	"yardbench/internal/demo"
)

// The console tells an operator what is open, gives a repository a credential of
// its own and takes it away, and lets people change their password.
func TestClosingInTheBrowser(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	p := w.page(t, "astrid")
	p.do("what is open", chromedp.Navigate(w.address+"/rules"), p.says("What is open"), p.says("when the engine's disk gets short"), p.says("where nobody becomes root"))
	fill := func(name, value string) chromedp.Action[chromedp.Void] {
		return chromedp.Steps(still("#"+name), chromedp.SendKeys(chromedp.CSS("#"+name), value))
	}
	const repository = "berth-planner" // the first in the list
	p.do("a credential taken away", chromedp.Navigate(w.address+"/repositories/"+repository), p.says("with a credential of its own"), button("More"), item("What prebuilds read it with"), p.says("What prebuilds of "+repository+" read it with"), button("Take it away"), p.says("as nobody"))
	p.do("one that the git host refuses", button("More"), item("What prebuilds read it with"), fill("username", demo.Reader("fare-desk")), fill("password", demo.GitToken(demo.Reader("fare-desk"))), button("Use this"), p.says("cannot be read"), button("Cancel"))
	w.must(w.as("astrid", "", "repository", "list"), 0, "as nobody")
	p.do("a good one", chromedp.Navigate(w.address+"/repositories/"+repository), p.says("as nobody"), button("More"), item("What prebuilds read it with"), fill("username", demo.Reader(repository)), fill("password", demo.GitToken(demo.Reader(repository))), button("Use this"), gone("as nobody"))
	if out := w.must(w.as("astrid", "", "repository", "list"), 0, "as itself"); strings.Contains(out, "as nobody") {
		t.Errorf("the repositories are\n%s", out)
	}
	mats := w.page(t, "mats")
	w.must(w.as("mats", "", "list"), 0)
	const another = "the tide over skerries"
	mats.do("two that are not the same", chromedp.Navigate(w.address+"/you"), button("Change password"), fill("old", demo.Password), fill("new", another), fill("again", "else"), button("Change it"), mats.says("The two are not the same"), button("Cancel"))
	mats.do("another password", chromedp.Navigate(w.address+"/you"), button("Change password"), fill("old", demo.Password), fill("new", another), fill("again", another), button("Change it"), mats.says("all your other sign-ins have ended"), gone("the command line"))
	c, err := yb.New(w.address, "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Self.SignIn(t.Context(), "mats", demo.Password); err == nil {
		t.Error("the old password opens the door")
	}
	if _, err := c.Self.SignIn(t.Context(), "mats", another); err != nil {
		t.Errorf("the new one is told %v", err)
	}
}

// gone waits until the page does not say something any more.
func gone(words string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		return unmoved(ctx, t, `document.body.innerText.includes(`+strconv.Quote(words)+`) ? "" : "gone"`)
	})
}
