package test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
)

// clicked presses what an expression of XPath finds, once it stands still with nothing
// before it.
func clicked(xpath string) chromedp.Action[chromedp.Void] {
	where := `(() => {
		const e = document.evaluate(` + strconv.Quote(xpath) + `, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE, null).singleNodeValue;
		if (!e) return "";
		e.scrollIntoView({block: "nearest"});
		const r = e.getBoundingClientRect();
		return e.contains(document.elementFromPoint(r.x + r.width / 2, r.y + r.height / 2)) ? [r.x, r.y, r.width, r.height].join() : "";
	})()`
	return chromedp.Steps(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error { return unmoved(ctx, t, where) }), chromedp.Click(xpath))
}

// item chooses one of an open menu.
func item(words string) chromedp.Action[chromedp.Void] {
	return chromedp.Steps(seen(".ant-dropdown-menu-item"), still(".ant-dropdown-menu"), chromedp.Click(`//li[contains(@class, "ant-dropdown-menu-item") and starts-with(., "`+words+`")]`))
}

// chosen chooses all that stands in a field, so that what is typed takes its place.
func chosen(selector string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, x *chromedp.Target) error {
		_, err := chromedp.Evaluate[any](`(() => { const e = document.querySelector(`+strconv.Quote(selector)+`); e.focus(); e.select(); return 0 })()`)(ctx, x)
		return err
	})
}

// pick chooses values of a select.
func pick(place string, titles ...string) chromedp.Action[chromedp.Void] {
	steps := []chromedp.Action[chromedp.Void]{seen(place), still(place), chromedp.Click(chromedp.CSS(place))}
	for _, title := range titles {
		found := `.ant-select-dropdown:not(.ant-select-dropdown-hidden) .ant-select-item-option[title^="` + title + `"]`
		steps = append(steps, seen(found), still(found), chromedp.Click(chromedp.CSS(found)))
	}
	return chromedp.Steps(steps...)
}

// options chooses values of a filter that is known by its label, and closes it.
func options(label string, titles ...string) chromedp.Action[chromedp.Void] {
	return chromedp.Steps(pick(`.ant-select:has([aria-label="`+label+`"])`, titles...), chromedp.Click(chromedp.CSS("h1")), chromedp.WaitNotPresent(chromedp.CSS(`.ant-select-dropdown:not(.ant-select-dropdown-hidden)`)))
}

// The fleet is looked through by several things at once, from the address; a view that is
// kept is there at another browser too; one workspace is looked into beside the list;
// and what is chosen is all that fits.
func TestFleetInTheBrowser(t *testing.T) {
	t.Parallel()
	w := simWorld(t)
	for _, l := range [][]string{{"ingrid", "tide-board", "quay"}, {"ingrid", "gull-count", "gulls"}, {"mats", "fare-desk", "fares"}, {"jonas", "tide-board", "board"}} {
		w.must(w.as(l[0], "", "launch", l[1], "--name", l[2]), 0, "is ready")
	}
	w.must(w.as("mats", "", "stop", "fares"), 0)
	astrid := w.page(t, "astrid")
	astrid.do("all of them", chromedp.Navigate(w.address+"/fleet"), astrid.says("4 shown, 3 ready"))
	astrid.do("by several things at once", options("Any state", "ready"), astrid.says("3 shown"), options("Any owner", "ingrid", "mats"), astrid.says("2 shown, 2 ready"))
	address, err := chromedp.Run(astrid.ctx, chromedp.Evaluate[string]("location.search"))
	if err != nil || !strings.Contains(address, "state=ready") || !strings.Contains(address, "owner=ingrid%2Cmats") {
		t.Errorf("the address says %s, %v", address, err)
	}
	astrid.do("words too", chromedp.SendKeys(chromedp.CSS(`input[aria-label="Find"]`), "GULL"), astrid.says("1 shown, 1 ready"))
	astrid.do("it is kept as a view", button("Views"), item("Keep this view"), seen(`input[aria-label="Name of the view"]`), still(`input[aria-label="Name of the view"]`), chromedp.SendKeys(chromedp.CSS(`input[aria-label="Name of the view"]`), "gulls that run"), modal(), astrid.says("gulls that run"))
	astrid.do("everything again", button("gulls that run"), item("Everything"), astrid.says("4 shown"))
	other := w.page(t, "astrid")
	other.do("the view is there at another browser", chromedp.Navigate(w.address+"/fleet"), button("Views"), item("gulls that run"), other.says("1 shown, 1 ready"))
	other.do("a column more, one less", chromedp.Navigate(w.address+"/fleet"), other.says("4 shown"), chromedp.Click(chromedp.CSS(`button[aria-label="Columns"]`)), clicked(`//label[contains(@class, "ant-checkbox-wrapper") and .="Team"]`), clicked(`//label[contains(@class, "ant-checkbox-wrapper") and .="Size"]`), chromedp.WaitVisible(`//*[@role="columnheader" and contains(., "Team")]`), chromedp.WaitNotPresent(`//*[@role="columnheader" and contains(., "Size")]`))
	other.do("one is looked into beside the list", chromedp.Navigate(w.address+"/fleet"), chromedp.Click(chromedp.CSS(`button[aria-label="Look into quay.ingrid"]`)), seen(".ant-drawer [data-step]"), still(".ant-drawer"), clicked(`//div[contains(@class, "ant-drawer")]//div[@role="tab" and .="Journal"]`), other.says("workspace: launched"))
	other.do("all that fit are chosen", chromedp.Navigate(w.address+"/fleet?repository=tide-board"), other.says("2 shown"), chromedp.Click(chromedp.CSS(`[aria-label="Choose it"]`)), other.says("1 chosen of 2 that fit"), button("Choose all that fit"), other.says("2 chosen of 2"))
	other.do("and stopped", button("With 2 chosen"), item("Stop"), seen(`input[aria-label="Reason"]`), still(`input[aria-label="Reason"]`), chromedp.SendKeys(chromedp.CSS(`input[aria-label="Reason"]`), "the yard is full"), modal(), seen(`[data-operation="over"]`), button("Close"), other.says("2 shown, 0 ready"))
}

// The pages of the house: a repository is changed and removed, a webhook changed, paused
// and told again, house rules written by their common values and held against others,
// what was paid followed to its cause, and the journal read to its beginning.
func TestTheHouseInTheBrowser(t *testing.T) {
	t.Parallel()
	w := simWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	astrid := w.page(t, "astrid")
	astrid.do("a repository's page", chromedp.Navigate(w.address+"/repositories/tide-board"), astrid.says("the money of Timetable"), astrid.says("pull request 3"), astrid.says("Say when the spring timetable begins"))
	w.push("tide-board", "spring", map[string]string{"spring": "x"})
	astrid.do("it is changed", chromedp.Navigate(w.address+"/repositories/tide-board?view=branches"), chromedp.WaitVisible(`//*[contains(@class, "ant-table-cell") and .="spring"]`), button("More"), item("Change"), seen("#default_branch"), still(".ant-modal-container"), pick(`.ant-select:has(#default_branch)`, "spring"), modal(), gone("Change tide-board"), chromedp.WaitVisible(`//dd[.="spring"]`))
	astrid.do("what was changed of it is told there, with its name", chromedp.Navigate(w.address+"/repositories/tide-board?view=journal"), astrid.says("repository: changed"), chromedp.Navigate(w.address+"/journal?kind=repository.changed"), chromedp.WaitVisible(`//*[contains(@class, "ant-table-cell")]//a[.="tide-board"]`), chromedp.Navigate(w.address+"/repositories/tide-board"))
	astrid.do("its workspaces hold it", button("More"), item("Remove"), clicked(`//button[contains(@class, "ant-btn-dangerous") and .="Remove"]`), astrid.says("1 workspaces or prebuilds"), button("OK"))
	w.must(w.as("ingrid", "", "remove", "quay", "--yes", "--discard"), 0)
	for end := time.Now().Add(20 * time.Second); strings.Contains(w.must(w.as("ingrid", "", "list"), 0), "quay"); time.Sleep(100 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("it is not removed")
		}
	}
	astrid.do("then it is removed", chromedp.Navigate(w.address+"/repositories/tide-board"), button("More"), item("Remove"), clicked(`//button[contains(@class, "ant-btn-dangerous") and .="Remove"]`), astrid.says("Register a repository"), gone("tide-board"))
	w.must(w.as("ingrid", "", "launch", "tide-board"), 3, "no repository")

	w.putRules("\nwebhooks_inside: [127.0.0.1]\n")
	told := make(chan string, 200)
	hook := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		select {
		case told <- r.Header.Get("Hook-Mark"):
		default:
		}
	}))
	t.Cleanup(hook.Close)
	astrid.do("a webhook is added", chromedp.Navigate(w.address+"/webhooks"), button("Add a webhook"), seen("#url"), still("#url"), chromedp.SendKeys(chromedp.CSS("#url"), hook.URL+"/yard"), modal(), astrid.says("yb_hook_"), button("OK"), seen(`[data-hook="well"]`))
	astrid.do("paused", button("Pause"), seen(`[data-hook="paused"]`))
	for len(told) > 0 {
		<-told
	}
	w.must(w.as("astrid", "", "team", "add", "Lights"), 0)
	time.Sleep(300 * time.Millisecond)
	if len(told) > 0 {
		t.Error("while it is paused it is told")
	}
	astrid.do("it goes on", button("Go on"), seen(`[data-hook="well"]`))
	<-told
	astrid.do("it is told again, from the first entry", button("More"), item("Tell again"), seen("#from"), still("#from"), chosen("#from"), chromedp.SendKeys(chromedp.CSS("#from"), "1"), modal(), gone("Tell again from"))
	for range 3 {
		<-told
	}
	astrid.do("it is told elsewhere", button("More"), item("Change"), seen("#url"), still("#url"), chromedp.SendKeys(chromedp.CSS("#url"), "2"), modal(), astrid.says("/yard2"))
	astrid.do("with another key", button("More"), item("Another key"), clicked(`//button[.="Make it"]`), astrid.says("yb_hook_"), button("OK"))

	astrid.do("a common value of the house rules", chromedp.Navigate(w.address+"/rules?view=common"), seen(`[id="idle.rest_after"]`), chosen(`[id="idle.rest_after"]`), chromedp.SendKeys(chromedp.CSS(`[id="idle.rest_after"]`), "35 min\r"), astrid.says("idle.rest_after"), astrid.says("35 min"))
	astrid.do("beside those in force", clicked(`//label[.="Side by side"]`), seen(".cm-mergeView"), astrid.says("beside what you write"))
	astrid.do("put in force", button("Put in force"), seen(".ant-modal-confirm input"), still(".ant-modal-confirm input"), chromedp.SendKeys(chromedp.CSS(".ant-modal-confirm input"), "shorter lunches"), chromedp.Click(chromedp.CSS(".ant-modal-confirm-btns .ant-btn-primary")), astrid.says("shorter lunches"), astrid.says("Version 3"))
	if r := w.must(w.as("astrid", "", "rules", "show"), 0); !strings.Contains(r, "rest_after: 35 min") || !strings.Contains(r, "#") {
		t.Errorf("the house rules are\n%s", r)
	}

	astrid.do("from the month to the team", chromedp.Navigate(w.address+"/cost"), clicked(`//*[contains(@class, "ant-table-cell")]//a[.="Timetable"]`), astrid.says("team Timetable"))
	astrid.do("to the person", clicked(`//*[contains(@class, "ant-table-cell")]//a[.="ingrid"]`), astrid.says("person ingrid"))
	astrid.do("to the workspace", clicked(`//*[contains(@class, "ant-table-cell")]//a[.="quay.ingrid"]`), astrid.says("workspace quay.ingrid"))
	astrid.do("to its journal", clicked(`//a[.="its journal of the time"]`), astrid.says("workspace: launched"))

	astrid.do("the journal, its older parts", chromedp.Navigate(w.address+"/journal"), astrid.says("back to"))
	for range 20 {
		over, err := chromedp.Run(astrid.ctx, chromedp.Evaluate[bool](`document.body.innerText.includes("There are no older ones.")`))
		if err != nil {
			t.Fatal(err)
		}
		if over {
			break
		}
		astrid.do("older ones", button("Older ones"), func() chromedp.Action[chromedp.Void] {
			return chromedp.Func(func(context.Context, *chromedp.Target) error { time.Sleep(300 * time.Millisecond); return nil })
		}())
	}
	astrid.do("to its beginning", astrid.says("There are no older ones."))
	astrid.do("at exact times, with links", chromedp.Navigate(w.address+"/journal?time=exact&kind=workspace.launched"), astrid.says("Time, UTC"), clicked(`//*[contains(@class, "ant-table-cell")]//a[.="ingrid"]`), chromedp.WaitVisible(`//input[@aria-label="Person" and @value="ingrid"]`))
}

// Whatever happens to the service, the line or one's rights, a page goes on or says what
// to do.
func TestPagesSurvive(t *testing.T) {
	t.Parallel()
	w := simWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	p := w.page(t, "ingrid")
	call := func(do func(ctx context.Context, x *chromedp.Target) error) chromedp.Action[chromedp.Void] {
		return chromedp.Func(do)
	}
	line := func(on bool) chromedp.Action[chromedp.Void] {
		return call(func(ctx context.Context, x *chromedp.Target) error {
			of := network.EmulateNetworkConditionsByRuleParams{MatchedNetworkConditions: []*network.Conditions{{Offline: !on, DownloadThroughput: -1, UploadThroughput: -1}}}
			_, err := cdp.Call(ctx, x, network.EmulateNetworkConditionsByRule, of)
			return err
		})
	}
	block := func(patterns ...string) chromedp.Action[chromedp.Void] {
		return call(func(ctx context.Context, x *chromedp.Target) error {
			var of network.SetBlockedURLsParams
			for _, b := range patterns {
				of.URLPatterns = append(of.URLPatterns, &network.BlockPattern{URLPattern: b, Block: true})
			}
			_, err := cdp.Call(ctx, x, network.SetBlockedURLs, of)
			return err
		})
	}
	enable := call(func(ctx context.Context, x *chromedp.Target) error {
		_, err := cdp.Call(ctx, x, network.Enable, network.EnableParams{})
		return err
	})
	js := func(s string) chromedp.Action[chromedp.Void] {
		return call(func(ctx context.Context, x *chromedp.Target) error {
			_, err := chromedp.Evaluate[any](s+";0")(ctx, x)
			return err
		})
	}
	const renewed = `window.fetch = ((f) => (u, o) => u === "/" ? Promise.resolve(new Response("<html>another</html>")) : f(u, o))(window.fetch)`
	p.do("a part that is refused is told", enable, chromedp.Navigate(w.address+"/mine"), p.says("quay"), block("*://*:*/assets/CostPage*"), clicked(`//nav//a[.="Cost"]`), p.says("This page could not be shown"), button("Load it again"))
	p.do("and is there when it is not", block(), chromedp.Navigate(w.address+"/cost"), seen("[data-total]"))
	p.do("a part of another release offers the new one", chromedp.Navigate(w.address+"/mine"), p.says("quay"), js(renewed), block("*://*:*/assets/JournalPage*"), clicked(`//nav//a[.="Journal"]`), p.says("A newer release of the console is served"), block(), button("Load it"), p.says("back to"))
	p.do("a line that is lost is told", chromedp.Navigate(w.address+"/mine"), p.says("quay"), line(false), js(`performance.mark("lost")`))
	w.must(w.as("ingrid", "", "stop", "quay"), 0)
	p.do("a page that comes meanwhile waits", clicked(`//nav//a[.="House rules"]`))
	time.Sleep(4 * time.Second)
	p.do("with the line it comes, and all is as it is", line(true), seen(".cm-content"), clicked(`//nav//a[.="Mine"]`), seen(`[data-card="quay"] [data-phase="stopped"]`))

	p.do("before the service is renewed", chromedp.Navigate(w.address+"/mine"), p.says("quay"), js(renewed))
	w.kill()
	p.do("it is told that it is away", p.says("The event stream is lost"))
	w.start()
	p.do("it is found again, and a newer release offered", gone("The event stream is lost"), p.says("A newer release of the console is served"))

	// The page's clock runs ahead: to it, the service says something too seldom.
	const on = `window.slow = Date.now; Date.now = ((now, begun) => () => begun + 2.3 * (now() - begun))(Date.now, Date.now())`
	p.do("a silence is told, and is over with the next word", chromedp.Navigate(w.address+"/mine"), p.says("quay"), js(on), p.says("Nothing was heard of the service for half a minute"), js(`Date.now = window.slow`), gone("Nothing was heard of the service"))
	p.do("a stream that is refused is told apart from a lost one", js(`window.EventSource = class extends EventTarget { close() {} constructor() { super(); setTimeout(() => this.onerror?.(), 10) } };
		window.fetch = ((f) => (u, o) => String(u).startsWith("/api/v1/events") ? Promise.resolve(new Response("", {status: 429})) : f(u, o))(window.fetch); document.dispatchEvent(new Event("visibilitychange"))`), p.says("The service refuses the event stream"))

	p.do("what one may changes while one looks", chromedp.Navigate(w.address+"/mine"), p.says("quay"), func() chromedp.Action[chromedp.Void] {
		return call(func(context.Context, *chromedp.Target) error {
			w.must(w.as("astrid", "", "person", "change", "ingrid", "--role", "lead"), 0)
			return nil
		})
	}(), p.says("My team's"))
	p.do("a sign-in that ends", call(func(ctx context.Context, _ *chromedp.Target) error {
		api := w.client("ingrid")
		all, err := api.Self.Tokens(ctx)
		for _, k := range all {
			if k.Door == "console" {
				err = api.Self.EndToken(ctx, k.ID)
			}
		}
		return err
	}), seen("#password"))
}
