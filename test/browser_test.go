package test

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"yardbench/internal/browser"
	"yardbench/internal/demo"
)

// page drives one page of the console.
type page struct {
	t   *testing.T
	ctx context.Context
}

func openPage(t *testing.T) page {
	t.Helper()
	if browser.Find() == "" {
		t.Skip("needs Chromium: install the package chromium")
	}
	ctx, end := browser.Open(context.Background(), 15*time.Minute)
	t.Cleanup(end)
	p := page{t, ctx}
	if err := chromedp.Do(ctx, browser.Size()); err != nil {
		t.Fatal(err)
	}
	return p
}

// do does a step, and shows the page when it cannot be done.
func (p page) do(what string, steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, slack*20*time.Second)
	defer cancel()
	defer func(began time.Time) {
		if took := time.Since(began); took > 3*time.Second {
			p.t.Logf("%s took %.1f s", what, took.Seconds())
		}
	}(time.Now())
	if err := chromedp.Do(ctx, steps...); err != nil {
		text, _ := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.body.innerText"))
		if png, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot()); err == nil {
			file := filepath.Join(os.TempDir(), "yardbench-browser-test.png")
			if os.WriteFile(file, png, 0o600) == nil {
				p.t.Logf("a picture of it: %s", file)
			}
		}
		p.t.Fatalf("%s: %v; the page says:\n%s", what, err, text)
	}
}

// says waits until the page says something.
func (p page) says(words string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		for ctx.Err() == nil {
			text, err := chromedp.Evaluate[string]("document.body.innerText")(ctx, t)
			if err == nil && strings.Contains(text, words) {
				return nil
			}
			time.Sleep(50 * time.Millisecond)
		}
		return context.DeadlineExceeded
	})
}

// button presses a button, once it stands still with nothing before it: a
// question that is still fading out takes the click.
func button(text string) chromedp.Action[chromedp.Void] {
	return clicked(`//button[normalize-space(.)="` + text + `" and not(@disabled)]`)
}

// still waits until an element has stood in one place for a moment: a click
// into something that is still flying in misses it.
func still(selector string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		where := `(() => { const e = document.querySelector(` + strconv.Quote(selector) + `); if (!e) return ""; const r = e.getBoundingClientRect(); return [r.x, r.y, r.width, r.height].join() })()`
		return unmoved(ctx, t, where)
	})
}

// unmoved waits until what a script says is something, and the same a few times.
func unmoved(ctx context.Context, t *chromedp.Target, where string) error {
	for last, times := "", 0; times < 4; time.Sleep(60 * time.Millisecond) {
		now, err := chromedp.Evaluate[string](where)(ctx, t)
		if err != nil {
			return err
		}
		if now != "" && now == last {
			times++
		} else {
			last, times = now, 0
		}
	}
	return nil
}

// confirm says yes to the question that the page asks.
func confirm() chromedp.Action[chromedp.Void] {
	const yes = ".ant-modal-confirm-btns .ant-btn-dangerous"
	return chromedp.Steps(seen(".ant-modal-confirm"), still(yes), chromedp.Click(chromedp.CSS(yes)))
}

func seen(selector string) chromedp.Action[chromedp.Void] {
	return chromedp.WaitVisible(chromedp.CSS(selector))
}

// Everything that first light promises in the browser, in a real one.
func TestTheSameInTheBrowser(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.push("tide-board", "main", map[string]string{".devcontainer/devcontainer.json": `{"build": {"dockerfile": "Dockerfile", "context": ".."},
		"remoteUser": "crew", "postCreateCommand": "for i in 1 2 3 4 5 6 7 8; do echo line $i of the set-up; sleep 1; done"}`})
	const option = `.ant-select-item-option[title="tide-board"]`
	p := openPage(t)
	p.do("a wrong password is told", chromedp.Navigate(w.address), seen("#name"),
		chromedp.SendKeys(chromedp.CSS("#name"), "ingrid"), chromedp.SendKeys(chromedp.CSS("#password"), "wrong\r"), p.says("do not go together"))
	p.do("sign in", chromedp.Navigate(w.address), seen("#name"), chromedp.SendKeys(chromedp.CSS("#name"), "ingrid"),
		chromedp.SendKeys(chromedp.CSS("#password"), demo.Password+"\r"), p.says("There is no workspace yet"))
	token, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.cookie + JSON.stringify(localStorage)"))
	if err != nil || strings.Contains(token, "yb_") {
		t.Errorf("a script of the page can read the sign-in: %q, %v", token, err)
	}
	p.do("a mistake in the launch form is told", button("Launch a workspace"), seen("#repository"),
		chromedp.SendKeys(chromedp.CSS("#repository"), "tide"), seen(option), browser.Enter(), p.says(".git"), chromedp.SendKeys(chromedp.CSS("#branch"), "mian"), p.says("its branches: main"), seen(`button[type="submit"][disabled]`))
	p.do("launch", chromedp.Navigate(w.address+"/launch"), seen("#repository"),
		chromedp.SendKeys(chromedp.CSS("#repository"), "tide"), seen(option), browser.Enter(), p.says(".git"), chromedp.SendKeys(chromedp.CSS("#name"), "quay"), button("Launch"))
	p.do("the launch sheet grows while it comes up", seen(`[data-step="postCreateCommand"][data-outcome="under way"]`), seen(`[data-step="Clone"][data-outcome="done"]`))
	p.do("the log grows while it comes up", chromedp.Click(`//div[@role="tab" and .="Log"]`), p.says("line 2 of the set-up"),
		seen(`[data-phase="starting"]`), p.says("line 8 of the set-up"), seen(`[data-phase="ready"]`))
	p.do("the launch sheet is done", chromedp.Click(`//div[@role="tab" and .="Launch sheet"]`), seen(`[data-sheet="1"][data-outcome="done"]`))
	p.do("a terminal, one press from the page of workspaces", chromedp.Navigate(w.address+"/mine"), seen(`[data-card="quay"]`), chromedp.Click(`//a[.="Enter"]`), seen(".xterm-screen"), p.says("crew@quay"),
		browser.TypeLine("echo $((6*7)) knots as $(whoami)"), p.says("42 knots as crew"))
	p.do("stop, which another door sees", button("Stop"), seen(`[data-phase="stopped"]`))
	w.must(w.as("ingrid", "", "show", "quay"), 0, "stopped")
	p.do("a start by another door is seen without a reload", chromedp.Func(func(context.Context, *chromedp.Target) error {
		w.must(w.as("ingrid", "", "start", "quay"), 0)
		return nil
	}), seen(`[data-phase="ready"]`))
	w.must(w.as("ingrid", "", "run", "quay", "--", "touch", "precious.txt"), 0)
	// The file's name stands in lists, too: what is taken away before the answer is not missed.
	p.do("a removal that would lose work is refused", button("Remove"), confirm(),
		p.says("holds work that exists nowhere else"), p.says("precious.txt"))
	w.must(w.as("ingrid", "", "run", "quay", "--", "rm", "precious.txt"), 0)
	p.do("stop and start", chromedp.Reload(), button("Stop"), seen(`[data-phase="stopped"]`), button("Start"), seen(`[data-phase="ready"]`))
	p.do("remove", button("Remove"), confirm(),
		p.says("Launch a workspace"), p.says("There is no workspace yet"))
	p.do("sign out", button("Sign out"), seen("#name"))
}

// page signs somebody in, in a browser of their own.
func (w *world) page(t *testing.T, name string) page {
	t.Helper()
	p := openPage(t)
	p.do("sign in as "+name, chromedp.Navigate(w.address), seen("#name"), chromedp.SendKeys(chromedp.CSS("#name"), name),
		chromedp.SendKeys(chromedp.CSS("#password"), demo.Password+"\r"), seen("nav a"))
	return p
}

// modal presses the primary button of the open question, once it stands still.
func modal() chromedp.Action[chromedp.Void] {
	const yes = ".ant-modal-container .ant-btn-primary"
	return chromedp.Steps(seen(yes), still(yes), chromedp.Click(chromedp.CSS(yes)))
}

// The whole round in the browser: bringing somebody in, plans and prepared
// images, the launch form's preflight with a secret given there, ports, hold,
// the fleet, the house rules with a mistake and a change, cost and journal.
func TestTheRoundInTheBrowser(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	astrid := w.page(t, "astrid")
	astrid.do("an operator sees first what needs somebody", astrid.says("Attention"), astrid.says("Nothing needs anybody"), chromedp.Navigate(w.address+"/fleet"), astrid.says("There is no workspace yet"))
	astrid.do("people", chromedp.Navigate(w.address+"/people"), astrid.says("Ingrid Solheim"), astrid.says("ingrid@skerryline.example"), button("Make an enrolment link"), seen(".ant-modal-container"))
	astrid.do("an enrolment link", modal(), seen(".ant-modal-container code"))
	link, err := chromedp.Run(astrid.ctx, chromedp.Evaluate[string](`document.querySelector(".ant-modal-container code").innerText`))
	if err != nil || !strings.Contains(link, "/enrol#yb_link_") {
		t.Fatalf("the link is %q, %v", link, err)
	}

	saga := openPage(t)
	saga.do("a link that is cut off is told", chromedp.Navigate(w.address+"/enrol#yb_link_x"), saga.says("This link cannot be used"))
	saga.do("she sets up her account and is signed in", chromedp.Navigate("about:blank"), chromedp.Navigate(strings.TrimSpace(link)), saga.says("You will be developer"), seen("#name"), chromedp.SendKeys(chromedp.CSS("#name"), "saga"), chromedp.SendKeys(chromedp.CSS("#full_name"), "Saga Ness"),
		chromedp.SendKeys(chromedp.CSS("#email"), "saga@skerryline.example"), chromedp.SendKeys(chromedp.CSS("#password"), "a long password\r"), saga.says("My workspaces"))
	saga.do("she is not shown what is not hers to see", chromedp.Navigate(w.address+"/people"), saga.says("not for your role"))

	runa := w.page(t, "runa")
	runa.do("a lead plans prebuilds", chromedp.Navigate(w.address+"/repositories"), runa.says("tide-board"), chromedp.Click(`//tr[@data-row-key="tide-board"]//button[.="Plan prebuilds"]`), seen(".ant-modal-container"), modal(), runa.says("none serves yet"))
	runa.do("and has an image prepared", chromedp.Navigate(w.address+"/repositories?open=tide-board"), button("Prepare now"), seen(`[data-outcome="under way"]`), seen(`[data-outcome="done"]`), runa.says("done, serves"))
	runa.do("the run has its sheet and log", chromedp.Click(`//td/a[.="1"]`), seen(`[data-step="Keep as prepared image"][data-outcome="done"]`), chromedp.Click(`//div[@role="tab" and .="Log"]`), runa.says("kept as yardbench/"))

	w.push("tide-board", "spring", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew", "forwardPort": [8000]}`})
	runa.do("a definition is checked", chromedp.Navigate(w.address+"/repositories"), runa.says("tide-board"), chromedp.Click(`//td/a[.="tide-board"]`), runa.says("nothing is wrong with it"), runa.says("the money of Timetable"), chromedp.Click(`//a[.="what it comes to"]`), runa.says("nothing is wrong with the definition"))
	runa.do("at another branch", chromedp.SendKeys(chromedp.CSS(`input[aria-label="Branch"]`), "spring\r"), seen(`[data-rule="unknown-property"]`), runa.says("Do: write forwardPorts"), runa.says(".devcontainer/devcontainer.json:1:54"))
	runa.do("what a launch does, and what a branch changes", chromedp.Navigate(w.address+"/repositories/tide-board/definition?view=steps"), runa.says("clone the repository"), runa.says("at each start"),
		chromedp.Navigate(w.address+"/repositories/tide-board/definition?branch=spring&view=changes"), runa.says("Due with it: a "), runa.says("On this branch"))

	runa.do("what it comes to, each value with where it is from", chromedp.Navigate(w.address+"/repositories/signal-mast/definition?view=values"), runa.says("lantern 1.1.0"), runa.says("feature registry.skerryline.example/features/lantern:1"), runa.says(".devcontainer/devcontainer.json:10:20"), runa.says("Fingerprint"))
	runa.do("by its name, what the house rules close", chromedp.Navigate(w.address+"/repositories/signal-mast/definition?name=night"), seen(`[data-rule="closed"]`), runa.says("/srv/charts is closed by the house rules"))
	runa.do("starters", chromedp.Navigate(w.address+"/starters"), button("Look inside"), runa.says("Board of the north quay"), runa.says("yardbench starter write board"))
	w.must(w.as("runa", "", "launch", "gull-count"), 0, "is ready")
	runa.do("services have their state and log", chromedp.Navigate(w.address+"/workspaces/gull-count?view=services"), seen(`[data-service="roost"]`), runa.says("healthy"), chromedp.Click(chromedp.CSS(`.ant-table-row-expand-icon`)), runa.says("the roost of Ytre Skjer is open"))
	w.must(w.as("runa", "", "remove", "gull-count", "--yes"), 0)

	runa.do("a program of the team, and a token of few rights", chromedp.Navigate(w.address+"/people"), button("Add a program"), seen("#name"), still("#name"), chromedp.SendKeys(chromedp.CSS("#name"), "nightwatch"),
		chromedp.SendKeys(chromedp.CSS("#purpose"), "Reviews of pull requests"), button("Add it"), runa.says("Reviews of pull requests"), button("Tokens"), runa.says("It has no token yet"), button("Make a token"),
		seen("#name"), still("#name"), chromedp.SendKeys(chromedp.CSS("#name"), "reviews"), chromedp.Click(`//label[contains(., "launch: workspaces")]`), button("Make it"), runa.says("YARDBENCH_TOKEN"), button("Done"), runa.says("token “reviews”"), runa.says("launch"))

	p := w.page(t, "ingrid")
	p.do("the launch form tells what is wrong with the definition", chromedp.Navigate(w.address+"/launch?repository=tide-board&branch=spring"), seen(`[data-ahead="tide-board"] [data-rule="unknown-property"]`))
	p.do("the launch form says what it will come to", chromedp.Navigate(w.address+"/launch?repository=tide-board"), seen(`[data-ahead="tide-board"]`), p.says("image 1 of"), p.says("at the branch's head"), p.says("running, ingrid"), p.says("€0.0612 an hour"))
	p.do("and what is missing, to be given there", p.says("TIDE_API_KEY is missing"), button("Give it"), seen(".ant-modal-container textarea"), still(".ant-modal-container textarea"),
		chromedp.SendKeys(chromedp.CSS(".ant-modal-container textarea"), "levels-of-the-quay"), modal(), p.says("nothing that is asked for is missing"))
	p.do("launch", chromedp.SendKeys(chromedp.CSS("#name"), "quay"), button("Launch"), seen(`[data-phase="ready"]`), p.says("image 1 of"))
	p.do("a terminal has the secret, and begins to serve", chromedp.Click(`//a[.="Bench"]`), seen(".xterm-screen"), p.says("crew@quay"), browser.TypeLine("echo key ${#TIDE_API_KEY}; make serve"), p.says("key 18"), p.says("the board is on port 8000"))
	p.do("its port shows within seconds", chromedp.Navigate(w.address+"/workspaces/quay?view=ports"), seen(`[data-listening="8000"]`), p.says("The board on the quay"), p.says("python3"))
	address, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`document.querySelector('a[href*="-8000.ports."]').href`))
	if err != nil {
		t.Fatal(err)
	}
	p.do("its address leads over the console to the page", chromedp.Navigate(address), p.says("Ytre Skjer"), p.says("00:00"))
	p.do("it loads itself again when a file of it changes", func() chromedp.Action[chromedp.Void] {
		return chromedp.Func(func(context.Context, *chromedp.Target) error {
			w.must(w.as("ingrid", "", "run", "quay", "--", "sed", "-i", "s/<h1>/<h1>High water at /", "page.html"), 0)
			return nil
		})
	}(), p.says("High water at Ytre Skjer"))
	p.do("a sign-in beside it calls back", chromedp.Click(`//a[.="Sign in"]`), p.says("Who are you?"), chromedp.SendKeys(chromedp.CSS(`input[name="who"]`), "Ingrid\r"), p.says("Signed in as Ingrid"))
	saga.do("nobody else comes there", chromedp.Navigate(address), saga.says("it may be private, or gone"))
	const everybody = `.ant-select-item-option[title="everybody signed in"]`
	p.do("it is shared", chromedp.Navigate(w.address+"/workspaces/quay.ingrid?view=ports"), seen(`[aria-label="Who may visit port 8000"]`),
		still(`.ant-select:has([aria-label="Who may visit port 8000"])`), chromedp.Click(chromedp.CSS(`.ant-select:has([aria-label="Who may visit port 8000"])`)),
		seen(everybody), still(everybody), chromedp.Click(chromedp.CSS(everybody)), seen(`.ant-select:has([aria-label="Who may visit port 8000"]) [title="everybody signed in"]`))
	saga.do("and a colleague comes there", chromedp.Navigate(address), saga.says("Ytre Skjer"))
	p.do("it is held", button("Hold"), seen("#why"), still("#why"), chromedp.SendKeys(chromedp.CSS("#why"), "a long test runs"), modal(), p.says("held until"), p.says("a long test runs"))
	p.do("a changed secret is said to be held in an older value", chromedp.Navigate(w.address+"/secrets"), p.says("TIDE_API_KEY"), func() chromedp.Action[chromedp.Void] {
		return chromedp.Func(func(context.Context, *chromedp.Target) error {
			w.must(w.as("ingrid", "other-levels", "secret", "put", "TIDE_API_KEY"), 0)
			return nil
		})
	}(), p.says("2"), chromedp.Navigate(w.address+"/workspaces/quay.ingrid"), p.says("holds an older TIDE_API_KEY"))
	p.do("what my workspaces get", chromedp.Navigate(w.address+"/secrets?view=explained&repository=tide-board"), p.says("it is yours, for this repository"))

	kept, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`(async () => JSON.stringify([{...localStorage}, {...sessionStorage}, document.cookie, history.state, await caches.keys(), await indexedDB.databases(),
		await Promise.all((await caches.keys()).map(async (k) => (await (await caches.open(k)).keys()).map((r) => r.url)))]))()`, chromedp.EvalAwaitPromise))
	if err != nil || strings.Contains(kept, "levels") || !strings.HasPrefix(kept, "[") {
		t.Errorf("the browser keeps %s, %v", kept, err)
	}

	astrid.do("the operator's fleet follows", chromedp.Navigate(w.address+"/fleet"), seen(`[data-phase="ready"]`), astrid.says("quay"), astrid.says("held"))
	const editor = ".cm-content"
	change := func(old, new string) chromedp.Action[chromedp.Void] {
		return chromedp.Func(func(ctx context.Context, tg *chromedp.Target) error {
			js := `(() => { const v = document.querySelector(".cm-content").cmTile?.view ?? document.querySelector(".cm-content").cmView?.view ?? document.querySelector(".cm-content").cmView?.rootView?.view; const s = v.state.doc.toString(); const at = s.indexOf(` + strconv.Quote(old) + `); v.dispatch({changes: {from: at, to: at + ` + strconv.Itoa(len(old)) + `, insert: ` + strconv.Quote(new) + `}}); return at })()`
			at, err := chromedp.Evaluate[int](js)(ctx, tg)
			if err == nil && at < 0 {
				t.Errorf("the house rules do not say %q", old)
			}
			return err
		})
	}
	astrid.do("a mistake in the house rules is told where it stands", chromedp.Navigate(w.address+"/rules"), seen(editor), change("memory: 1 GiB", "memory: 1 GB"), astrid.says("Line 7, column 30"), astrid.says("did you mean GiB"))
	astrid.do("a change is in force at once", change("memory: 1 GB", "memory: 2 GiB"), astrid.says("sizes.small"), button("Put in force"), seen(".ant-modal-confirm input"), still(".ant-modal-confirm input"),
		chromedp.SendKeys(chromedp.CSS(".ant-modal-confirm input"), "the boards grew"), chromedp.Click(chromedp.CSS(".ant-modal-confirm-btns .ant-btn-primary")), astrid.says("Version 2"), astrid.says("the boards grew"))
	w.must(w.as("ingrid", "", "launch", "tide-board", "--dry-run"), 0, "2 GiB asked")
	astrid.do("the fleet is stopped from the list", chromedp.Navigate(w.address+"/fleet"), seen(`[aria-label="Choose it"]`), chromedp.Click(chromedp.CSS(`[aria-label="Choose it"]`)), button("With 1 chosen"),
		seen(".ant-dropdown-menu-item"), still(".ant-dropdown-menu"), chromedp.Click(`//li[contains(@class, "ant-dropdown-menu-item") and .="Stop"]`), seen(`input[aria-label="Reason"]`), still(`input[aria-label="Reason"]`),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="Reason"]`), "the yard is full"), modal(), seen(`[data-operation="over"]`), seen(`[data-outcome="done"]`), button("Close"), seen(`[data-phase="stopped"]`))
	astrid.do("what was asked of many is kept", chromedp.Navigate(w.address+"/operations"), astrid.says("1 done"), astrid.says("the yard is full"))
	w.must(w.as("astrid", "", "tell", "--where", "all,repository=tide-board", "--yes", "--why", "a storm is coming"), 0, "done")
	p.do("a notice stands until it is read", chromedp.Navigate(w.address+"/mine"), p.says("notice"), chromedp.Click(`//a[contains(@href, "/workspaces/")]`), p.says("a storm is coming"), button("I have read it"), gone("a storm is coming"))
	astrid.do("cost", chromedp.Navigate(w.address+"/cost"), seen("[data-total]"), astrid.says("Timetable"), chromedp.Click(`//label[.="by person"]`), astrid.says("ingrid"))
	astrid.do("the journal", chromedp.Navigate(w.address+"/journal?kind=rules."), astrid.says("rules: put"), astrid.says("the boards grew"))
	p.do("sign-ins and tokens", chromedp.Navigate(w.address+"/you"), p.says("the console, here"), button("Make a token"), seen("#name"), still("#name"), chromedp.SendKeys(chromedp.CSS("#name"), "nightly"), modal(), p.says("YARDBENCH_TOKEN"))
}

// A page that somebody has left holds no connection: a browser has six to a
// service, and what comes after them waits for a minute.
func TestPagesLeftBehind(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	runa := w.page(t, "runa")
	const waited = `Math.max(0, ...performance.getEntriesByType("resource").map(e => e.requestStart - e.startTime))`
	for range 4 {
		runa.do("look here", chromedp.Navigate(w.address+"/repositories"), runa.says("tide-board"))
		runa.do("look there", chromedp.Navigate(w.address+"/starters"), button("Look inside"), runa.says("yardbench starter write board"))
		if ms, err := chromedp.Run(runa.ctx, chromedp.Evaluate[float64](waited)); err != nil || ms > 10_000 {
			t.Fatalf("a request waited %.0f ms for a connection, %v", ms, err)
		}
	}
}
