package test

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	downloads "github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"

	"yardbench/internal/browser"
)

// pointed moves the pointer to where a terminal shows words at a line's beginning, and
// presses there.
func pointed(words string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, x *chromedp.Target) error {
		at, err := chromedp.Evaluate[[]float64](`(() => {
			const row = [...document.querySelectorAll(".xterm-rows > div")].findLast((d) => d.innerText.startsWith(`+strconv.Quote(words)+`));
			if (!row) return [];
			const walk = document.createTreeWalker(row, NodeFilter.SHOW_TEXT), range = document.createRange(), text = walk.nextNode();
			range.setStart(text, 1); range.setEnd(text, 3);
			const r = range.getBoundingClientRect();
			return [r.x + r.width / 2, r.y + r.height / 2];
		})()`)(ctx, x)
		if err != nil || len(at) < 2 {
			return context.DeadlineExceeded
		}
		for _, d := range []float64{-3, 0} { // it is looked for what lies there when the pointer moves
			moved := input.DispatchMouseEventParams{Type: input.DispatchMouseEventTypeMouseMoved, X: at[0] + d, Y: at[1]}
			if _, err := cdp.Call(ctx, x, input.DispatchMouseEvent, moved); err != nil {
				return err
			}
			time.Sleep(200 * time.Millisecond)
		}
		_, err = chromedp.MouseClickXY(at[0], at[1])(ctx, x)
		return err
	})
}

// What a terminal prints as a place in a file opens it there; what it printed is found and
// copied; files come by being dropped. A program that is debugged stops at its entry
// where its way says so, and where it fails.
func TestBenchByHand(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.push("tide-board", "main", map[string]string{
		".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew", "customizations": {"yardbench": {"debug": {"configurations": [
			{"name": "from its entry", "adapter": "python", "request": "launch", "with": {"program": "fault.py", "stopOnEntry": true}},
			{"name": "as it fails", "adapter": "python", "request": "launch", "with": {"program": "fault.py"}},
			{"name": "what runs", "adapter": "python", "request": "attach", "with": {"connect": {"host": "127.0.0.1", "port": 5678}}}]}}}}`,
		"watch.py": "import time\n\nseen = 0\nwhile True:\n    seen += 1\n    time.sleep(0.2)\n",
		"fault.py": "def deep(level):\n    return 1 / level\n\n\nprint(deep(0))\n",
	})
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	p := w.page(t, "ingrid")
	js := func(s string) chromedp.Action[chromedp.Void] {
		return chromedp.Func(func(ctx context.Context, x *chromedp.Target) error {
			_, err := chromedp.Evaluate[any](s+"; 0")(ctx, x)
			return err
		})
	}
	p.do("a terminal prints a place", chromedp.Navigate(w.bench("quay", "files", "terminal:main")), p.says("crew@quay"), js(`navigator.clipboard.writeText = (t) => { window.copied = t; return Promise.resolve() }; document.querySelector(".xterm-helper-textarea").focus()`),
		browser.TypeLine(`printf 'tides.py:%d: see there\n' 12`), holds(`[...document.querySelectorAll(".xterm-rows > div")].some((d) => d.innerText.startsWith("tides.py:12: see there"))`))
	p.do("which opens it there", pointed("tides.py:12"), seen(`[data-board^="file:12:"] .cm-content`))
	p.do("what it printed is found", js(`document.querySelector(".xterm-helper-textarea").focus()`), browser.Key("F", "KeyF", 10), seen(`input[aria-label="Find in the terminal"]`), chromedp.SendKeys(chromedp.CSS(`input[aria-label="Find in the terminal"]`), "see there\r"), holds(`document.querySelector(".xterm-selection div") !== null`))
	p.do("and copied", js(`document.querySelector(".xterm-helper-textarea").focus()`), browser.Key("c", "KeyC", 2), holds(`window.copied === "see there"`))
	p.do("files come by being dropped", js(`(() => { const d = new DataTransfer(); d.items.add(new File(["high at six\n"], "table.txt")); document.querySelector('[aria-label="Files"]').closest(".list").dispatchEvent(new DragEvent("drop", { dataTransfer: d, bubbles: true, cancelable: true })) })()`), holds(`document.body.innerText.includes("table.txt")`))
	w.must(w.as("ingrid", "", "run", "quay", "--", "cat", "table.txt"), 0, "high at six")
	away := t.TempDir()
	p.do("a file is taken away", chromedp.Func(func(ctx context.Context, x *chromedp.Target) error {
		_, err := cdp.Call(ctx, x, downloads.SetDownloadBehavior, downloads.SetDownloadBehaviorParams{Behavior: downloads.SetDownloadBehaviorBehaviorAllow, DownloadPath: away})
		return err
	}), clicked(`//*[@role="treeitem"]//*[text()="table.txt"]`), clicked(`//button[starts-with(normalize-space(.), "New, move, remove")]`), clicked(`//li[@role="menuitem" and normalize-space(.)="Take it away"]`))
	got := ""
	for end := time.Now().Add(slack * 5 * time.Second); got != "high at six\n" && time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		text, _ := os.ReadFile(filepath.Join(away, "table.txt")) // it is not there at first
		got = string(text)
	}
	if got != "high at six\n" {
		t.Errorf("what was taken away holds %q", got)
	}

	way := func(name string) chromedp.Action[chromedp.Void] {
		return press(`[data-configuration="` + name + `"] button`)
	}
	p.do("a program stops at its entry", chromedp.Navigate(w.bench("quay", "debug", "file::fault.py")), way("from its entry"), seen(`[data-debug="stopped"]`), holds(`document.querySelector(".stands-here")?.innerText.includes("def deep")`), button("End"), seen(`[data-debug="over"]`))
	p.do("and where it fails", chromedp.Navigate(w.bench("quay", "debug", "file::fault.py")), way("as it fails"), seen(`[data-debug="stopped"]`), seen(`[data-frame="deep"]`), p.saysIn(`[data-variable="level"]`, "0"), holds(`document.querySelector(".stands-here")?.innerText.includes("1 / level")`), p.says("ZeroDivisionError"), button("End"), seen(`[data-debug="over"]`))

	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "setsid python3 -m debugpy --listen 127.0.0.1:5678 watch.py >/tmp/watch.log 2>&1 </dev/null & echo begun"), 0, "begun")
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", `for i in $(seq 100); do grep -q :162E /proc/net/tcp && break; sleep 0.2; done; pgrep -f watch.py`), 0, "")
	p.do("a program that runs is looked into", chromedp.Navigate(w.bench("quay", "debug", "file::watch.py")), seen(".break-points"), caret("watch.py", "    seen += 1"), browser.Key("p", "KeyP", 1), p.says("watch.py:5"), way("what runs"), seen(`[data-debug="stopped"]`), holds(`document.querySelector(".stands-here")?.innerText.includes("seen += 1")`), p.saysIn(`[data-variable="seen"]`, "seen ="), button("End"), seen(`[data-debug="over"]`))
	w.must(w.as("ingrid", "", "run", "quay", "--", "pgrep", "-f", "watch.py"), 0, "")
}
