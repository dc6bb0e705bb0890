package test

import (
	"context"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// neighbour is a program in a workspace: it writes down what it is asked, and
// serves a page that tries what %VICTIM% would let it.
const neighbour = `import base64, hashlib, http.server, sys
page = open("/tmp/page.html").read() if len(sys.argv) > 2 else "PRIVATE"
class H(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def answer(self):
        self.rfile.read(int(self.headers.get("Content-Length") or 0))
        with open("/tmp/asked", "a") as f: f.write("%s %s tossed=%s\n" % (self.command, self.path, "tossed" in (self.headers.get("Cookie") or "")))
        if self.headers.get("Upgrade") == "websocket":
            key = base64.b64encode(hashlib.sha1((self.headers["Sec-WebSocket-Key"] + "258EAFA5-E914-47DA-95CA-C5AB0DC85B11").encode()).digest()).decode()
            self.wfile.write(("HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Accept: " + key + "\r\n\r\n").encode())
            self.wfile.write(b"\x81\x07PRIVATE"); self.wfile.flush(); self.close_connection = True
            return
        body = page.encode()
        self.send_response(200); self.send_header("Content-Type", "image/svg+xml" if self.path.endswith(".svg") else "text/html"); self.send_header("Content-Length", str(len(body))); self.end_headers(); self.wfile.write(body)
    do_GET = do_POST = do_PUT = answer
    def log_message(self, *a): pass
http.server.ThreadingHTTPServer(("127.0.0.1", int(sys.argv[1])), H).serve_forever()
`

// attack is the page of a neighbour. What it gets it says.
const attack = `<!doctype html><body>begun<script>
const victim = "%VICTIM%";
const say = (what) => document.body.append(" | " + what);
const within = (p) => Promise.race([p, new Promise((_, no) => setTimeout(() => no("nothing"), 3000))]);
(async () => {
  document.cookie = "yardbench_visit=tossed; domain=ports.localhost; path=/";
  document.cookie = "session=tossed; domain=ports.localhost; path=/";
  for (const [what, how] of Object.entries({
    post: () => fetch(victim + "/post", {method: "POST", mode: "no-cors", credentials: "include", body: "x"}).then((r) => r.type),
    put: () => fetch(victim + "/put", {method: "PUT", credentials: "include"}).then((r) => r.text()),
    read: () => fetch(victim + "/read", {credentials: "include"}).then((r) => r.text()),
    socket: () => new Promise((ok, no) => { const w = new WebSocket(victim.replace("http", "ws") + "/socket"); w.onmessage = (m) => ok(m.data); w.onerror = () => no("closed") }),
    picture: () => new Promise((ok, no) => { const i = new Image(); i.onload = () => ok("shown"); i.onerror = () => no("none"); i.src = victim + "/picture.svg" }),
    script: () => new Promise((ok, no) => { const i = document.createElement("script"); i.onload = () => ok("run"); i.onerror = () => no("none"); i.src = victim + "/script"; document.body.append(i) }),
    frame: () => new Promise((ok) => { const i = document.createElement("iframe"); i.onload = () => setTimeout(() => ok("loaded"), 300); i.src = victim + "/frame"; document.body.append(i) }),
    form: () => new Promise((ok) => { const i = document.createElement("iframe"); i.name = "there"; document.body.append(i); const f = document.createElement("form"); f.method = "post"; f.target = "there"; f.action = victim + "/form"; document.body.append(f); f.submit(); setTimeout(() => ok("sent"), 1000) }),
  })) {
    try { say(what + " got " + await within(how())); } catch (e) { say(what + " failed: " + e); }
  }
  say("over");
})();
</script>`

// A page that one workspace serves can neither act on another's private port nor
// read it, in the browser of somebody who may visit both; and shuts nobody out.
// The workspace's own pages can.
func TestNeighboursInTheBrowser(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	serve := func(who, name, port, page string) string {
		w.must(w.as(who, "", "launch", "tide-board", "--name", name), 0)
		w.must(w.as(who, neighbour, "run", name, "--", "sh", "-c", "cat > /tmp/serve.py"), 0)
		args := port
		if page != "" {
			w.must(w.as(who, page, "run", name, "--", "sh", "-c", "cat > /tmp/page.html"), 0)
			args += " page"
		}
		w.must(w.as(who, "", "run", name, "--", "sh", "-c", "setsid python3 /tmp/serve.py "+args+" >/dev/null 2>&1 </dev/null & sleep 1"), 0)
		ports, err := w.client(who).Ports.List(t.Context(), name, false)
		if err != nil {
			t.Fatal(err)
		}
		return strings.Replace(ports[0].Address, "-8000", "-"+port, 1)
	}
	victim := serve("ingrid", "quay", "8000", "")
	attacker := serve("mats", "nest", "9100", strings.ReplaceAll(attack, "%VICTIM%", victim))
	w.must(w.as("mats", "", "port", "share", "nest", "9100"), 0)
	own := strings.Replace(victim, "-8000", "-9200", 1)
	w.must(w.as("ingrid", strings.ReplaceAll(attack, "%VICTIM%", victim), "run", "quay", "--", "sh", "-c", "cat > /tmp/page.html"), 0)
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "setsid python3 /tmp/serve.py 9200 page >/dev/null 2>&1 </dev/null & sleep 1"), 0)

	p := w.page(t, "ingrid")
	p.do("the owner comes to the private port", chromedp.Navigate(victim+"/own"), p.says("PRIVATE"))
	p.do("and to a colleague's, which tries all it can", chromedp.Navigate(attacker+"/"), p.says("| over"))
	said, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.body.innerText"))
	if err != nil {
		t.Fatal(err)
	}
	asked := w.must(w.as("ingrid", "", "run", "quay", "--", "cat", "/tmp/asked"), 0)
	if strings.Contains(said, "PRIVATE") || strings.Contains(said, "shown") || strings.Contains(said, "run") || strings.Contains(strings.ReplaceAll(strings.Replace(asked, "GET /own", "", 1), "GET /favicon.ico", ""), "/") {
		t.Errorf("a neighbour's page says: %s\nand the private program was asked:\n%s", said, asked)
	}
	p.do("what the neighbour has set shuts nobody out", chromedp.Navigate(victim+"/again"), p.says("PRIVATE"))
	p.do("a link from there is followed", chromedp.Navigate(attacker+"/"), p.says("| over"), chromedp.Func(func(ctx context.Context, tg *chromedp.Target) error {
		_, err := chromedp.Evaluate[string](`location.href = `+strconv.Quote(victim+"/followed"))(ctx, tg)
		return err
	}), p.says("PRIVATE"))

	p.do("the workspace's other port", chromedp.Navigate(own+"/"), p.says("| over"))
	said, err = chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.body.innerText"))
	if err != nil {
		t.Fatal(err)
	}
	asked = w.must(w.as("ingrid", "", "run", "quay", "--", "cat", "/tmp/asked"), 0)
	for _, part := range []string{"POST /post", "POST /form", "GET /socket", "GET /frame"} {
		if !strings.Contains(asked, part) || !strings.Contains(said, "socket got PRIVATE") {
			t.Errorf("the workspace's own page says %s, and %s was not asked:\n%s", said, part, asked)
		}
	}
}
