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

func button(text string) chromedp.Action[chromedp.Void] {
	return chromedp.Click(`//button[normalize-space(.)="` + text + `" and not(@disabled)]`)
}

// still waits until an element has stood in one place for a moment: a click
// into something that is still flying in misses it.
func still(selector string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		where := `(() => { const e = document.querySelector(` + strconv.Quote(selector) + `); if (!e) return ""; const r = e.getBoundingClientRect(); return [r.x, r.y, r.width, r.height].join() })()`
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
	})
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
		chromedp.SendKeys(chromedp.CSS("#repository"), "tide"), seen(option), browser.Enter(), p.says(".git"), chromedp.SendKeys(chromedp.CSS("#branch"), "mian"), button("Launch"), p.says("its branches: main"))
	p.do("launch", chromedp.Navigate(w.address+"/launch"), seen("#repository"),
		chromedp.SendKeys(chromedp.CSS("#repository"), "tide"), seen(option), browser.Enter(), p.says(".git"), chromedp.SendKeys(chromedp.CSS("#name"), "quay"), button("Launch"))
	p.do("the launch sheet grows while it comes up", seen(`[data-step="postCreateCommand"][data-outcome="under way"]`), seen(`[data-step="Clone"][data-outcome="done"]`))
	p.do("the log grows while it comes up", chromedp.Click(`//div[@role="tab" and .="Log"]`), p.says("line 2 of the set-up"),
		seen(`[data-phase="starting"]`), p.says("line 8 of the set-up"), seen(`[data-phase="ready"]`))
	p.do("the launch sheet is done", chromedp.Click(`//div[@role="tab" and .="Launch sheet"]`), seen(`[data-sheet="1"][data-outcome="done"]`))
	p.do("a terminal", chromedp.Click(`//div[@role="tab" and .="Terminal"]`), seen(".xterm-screen"), p.says("crew@quay"),
		browser.TypeLine("echo $((6*7)) knots as $(whoami)"), p.says("42 knots as crew"))
	p.do("stop, which another door sees", button("Stop"), seen(`[data-phase="stopped"]`))
	w.must(w.as("ingrid", "", "show", "quay"), 0, "stopped")
	p.do("a start by another door is seen without a reload", chromedp.Func(func(context.Context, *chromedp.Target) error {
		w.must(w.as("ingrid", "", "start", "quay"), 0)
		return nil
	}), seen(`[data-phase="ready"]`))
	w.must(w.as("ingrid", "", "run", "quay", "--", "touch", "precious.txt"), 0)
	p.do("a removal that would lose work is refused", button("Remove"), confirm(),
		p.says("precious.txt"))
	w.must(w.as("ingrid", "", "run", "quay", "--", "rm", "precious.txt"), 0)
	p.do("stop and start", chromedp.Reload(), button("Stop"), seen(`[data-phase="stopped"]`), button("Start"), seen(`[data-phase="ready"]`))
	p.do("remove", button("Remove"), confirm(),
		p.says("Launch a workspace"), p.says("There is no workspace yet"))
	p.do("sign out", button("Sign out"), seen("#name"))
}
