package test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"yardbench/internal/browser"
)

// A language's program that means ill: it says what is no message, what is not so, more
// than anybody could read, and marks that would run in a careless page.
const liar = `#!/usr/bin/env python3
import json, sys, threading, time
EVIL = "<img src=x onerror='window.__ran=1'><script>window.__ran=1</script>[x](javascript:window.__ran=1)"
lock = threading.Lock()
def say(m):
    b = json.dumps(m).encode()
    with lock:
        sys.stdout.buffer.write(b"Content-Length: %d\r\n\r\n" % len(b) + b)
        sys.stdout.buffer.flush()
def flood():
    while True:
        for n in range(500):
            say({"jsonrpc": "2.0", "method": "window/logMessage", "params": {"type": 1, "message": EVIL * 20}})
        say({"jsonrpc": "2.0", "id": "a", "method": "workspace/applyEdit", "params": {"edit": {"changes": {"file:///etc/passwd": [{"range": {"start": {"line": 0, "character": 0}, "end": {"line": 9, "character": 0}}, "newText": "mine"}]}}}})
        say({"jsonrpc": "2.0", "id": 99999, "result": "for nobody"})
        say({"jsonrpc": "2.0", "method": "textDocument/publishDiagnostics", "params": {"uri": "file:///workspaces/tide-board/trap.py", "diagnostics": [
            {"range": {"start": {"line": n * 1000, "character": -5}, "end": {"line": -3, "character": 1 << 40}}, "severity": 1, "message": EVIL} for n in range(20000)]}})
        say({"jsonrpc": "2.0", "method": "textDocument/publishDiagnostics", "params": {"uri": 7, "diagnostics": "none"}})
        say([1, 2]); say(None); say("x")
while True:
    head = b""
    while not head.endswith(b"\r\n\r\n"):
        c = sys.stdin.buffer.read(1)
        if not c: sys.exit(0)
        head += c
    m = json.loads(sys.stdin.buffer.read(int(head.split(b":")[1])))
    if m.get("method") == "initialize":
        say({"jsonrpc": "2.0", "id": m["id"], "result": {"capabilities": {"textDocumentSync": 2, "hoverProvider": True, "completionProvider": {}, "documentSymbolProvider": True}}})
    elif m.get("method") == "textDocument/hover":
        say({"jsonrpc": "2.0", "id": m["id"], "result": {"contents": {"kind": "markdown", "value": "HOVERED " + EVIL}}})
    elif m.get("method") == "textDocument/completion":
        say({"jsonrpc": "2.0", "id": m["id"], "result": [{"label": EVIL, "detail": EVIL, "documentation": {"kind": "markdown", "value": EVIL}} for n in range(2000)]})
        threading.Thread(target=flood, daemon=True).start()
    elif "id" in m:
        say({"jsonrpc": "2.0", "id": m["id"], "result": {"lie": EVIL}})
`

// Nothing of a repository that means ill runs on the console's origin, nor stops it:
// not its pages and pictures, not its names, nor what its programs say.
func TestBenchOfAHostileRepository(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	const page = `<!doctype html><script>window.__ran = 1; try { parent.__ran = 1; top.__ran = 1 } catch {}</script><img src=x onerror="window.__ran=1">`
	w.push("tide-board", "trap", map[string]string{
		".devcontainer/devcontainer.json":        `{"image": "skerryline/base:1", "remoteUser": "crew", "customizations": {"yardbench": {"languages": {"python": {"command": ["python3", "liar.py"]}}}}}`,
		"liar.py":                                liar,
		"trap.py":                                "import math\n\nlevels = [1, 2, 3]\n",
		"trap.html":                              page,
		"trap.svg":                               `<svg xmlns="http://www.w3.org/2000/svg" onload="window.__ran=1"><script>window.__ran=1</script></svg>`,
		"trap.png":                               page,
		"<img src=x onerror=window.__ran=1>.txt": "a name\n",
		"levels.txt":                             "<script>window.__ran=1</script> needle\n",
	})
	w.must(w.as("ingrid", "", "launch", "tide-board", "--branch", "trap", "--name", "trap"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "trap", "--", "sh", "-c", `ln -s /etc/passwd link; printf 'x\n' >"$(printf 'new\nline')"; echo change >>levels.txt`), 0)
	p := w.page(t, "ingrid")
	unharmed := func(when string) {
		t.Helper()
		ran, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`String(window.__ran) + " " + location.host`))
		if err != nil || ran != "undefined "+strings.TrimPrefix(w.address, "http://") {
			t.Fatalf("%s: it ran: %q, %v", when, ran, err)
		}
	}
	p.do("names are names", chromedp.Navigate(w.bench("trap", "files", "file::trap.html")), p.says("<img src=x onerror=window.__ran=1>.txt"), p.says("window.__ran = 1; try"))
	unharmed("a page as a text")
	p.do("a picture with a program is a text", chromedp.Navigate(w.bench("trap", "changes", "file::trap.svg")), p.says("<svg xmlns"), p.says("levels.txt"))
	p.do("what is called a picture and is none is drawn as none", chromedp.Navigate(w.bench("trap", "search", "file::trap.png")), p.says("it cannot be drawn"))
	p.do("what is found is a text", chromedp.SendKeys(chromedp.CSS(`input[aria-label="What a line holds"]`), "needle\r"), p.saysIn(".hits", "<script>window.__ran=1</script> needle"))
	p.do("what leads out is not followed", chromedp.Navigate(w.bench("trap", "", "file::link")), p.saysIn(".board", "leads out"), gone("root:x:0"))
	p.do("what is printed is printed", chromedp.Navigate(w.bench("trap", "", "terminal:main")), seen(".xterm-screen"), p.says("crew@trap"),
		browser.TypeLine(`printf '\033]0;<script>window.__ran=1</script>\007\033]8;;javascript:window.__ran=1\033\\link\033]8;;\033\\ \033]52;c;c3RvbGVu\007 done\n'; seq 200000 | tail -1`), p.says("200000"))
	unharmed("after a terminal")

	hover := chromedp.Func(func(ctx context.Context, tg *chromedp.Target) error {
		_, err := chromedp.Evaluate[bool](`(() => { const v = `+view("trap.py")+`; const r = v.coordsAtPos(v.state.doc.toString().indexOf("levels") + 1); for (const x of [2, 3]) v.contentDOM.dispatchEvent(new MouseEvent("mousemove", {bubbles: true, clientX: r.left + x, clientY: r.top + 5})); return true })()`)(ctx, tg)
		return err
	})
	p.do("what a program says of a name is a text", chromedp.Navigate(w.bench("trap", "", "file::trap.py")), seen(`[data-file="trap.py"] .cm-content`), seen(`[data-served="python"]`), hover, p.says("HOVERED"),
		holds(`!document.querySelector(".cm-tooltip img, .cm-tooltip script, .cm-tooltip a")`))
	unharmed("what it says of a name")
	p.do("and what it offers", write("trap.py", "[1, 2, 3]", "[1, 2, ma"), browser.Key(" ", "Space", 2), seen(".cm-tooltip-autocomplete"), chromedp.Sleep(6*time.Second))
	unharmed("a program that floods")
	began := time.Now()
	p.do("it can be worked beside one that floods and lies", write("trap.py", "[1, 2, ma", "[1, 2, 4]"), browser.Key("s", "KeyS", 2), seen(`[data-file="trap.py"][data-dirty="false"]`))
	if took := time.Since(began); took > slack*5*time.Second {
		t.Errorf("beside a program that floods a file is saved within %s", took)
	}
	p.do("until it is not believed any more", seen(`[data-unserved="python"]`))
	if passwd := w.must(w.as("ingrid", "", "run", "trap", "--", "head", "-1", "/etc/passwd"), 0); !strings.HasPrefix(passwd, "root:") {
		t.Errorf("a file outside is %q", passwd)
	}
	w.must(w.as("ingrid", "", "list"), 0, "trap") // the service goes on
}
