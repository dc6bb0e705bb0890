package test

import (
	"bufio"
	"context"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/gorilla/websocket"

	yb "yardbench/client"
	"yardbench/wire"
)

// A port is listed with its process within seconds, reached from outside by
// those who may, by forwarding, and over WebSocket; nobody else.
func TestPorts(t *testing.T) {
	w := newWorld(t)
	c := w.client("ingrid")
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0)
	w.must(w.as("ingrid", "", "port", "list", "quay"), 0, "8000", "The board on the quay", "nothing", "only you")
	const server = `import base64, hashlib, http.server, os
class H(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def do_GET(self):
        if self.headers.get("Upgrade") == "websocket":
            key = base64.b64encode(hashlib.sha1((self.headers["Sec-WebSocket-Key"] + "258EAFA5-E914-47DA-95CA-C5AB0DC85B11").encode()).digest()).decode()
            self.wfile.write(("HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Accept: " + key + "\r\n\r\n").encode())
            head = self.rfile.read(6); n = head[1] & 127; mask = head[2:6]
            data = bytes(b ^ mask[i % 4] for i, b in enumerate(self.rfile.read(n)))
            self.wfile.write(bytes([0x81, n]) + data[::-1]); self.wfile.flush(); self.close_connection = True
            return
        body = ("host %s cookie %s path %s address %s" % (self.headers["Host"], self.headers.get("Cookie"), self.path, os.environ["YARDBENCH_PORT_8000_ADDRESS"])).encode()
        self.send_response(200); self.send_header("Content-Length", str(len(body))); self.send_header("Set-Cookie", "theirs=1"); self.end_headers(); self.wfile.write(body)
    def log_message(self, *a): pass
http.server.ThreadingHTTPServer(("127.0.0.1", 8000), H).serve_forever()
`
	w.must(w.as("ingrid", server, "run", "quay", "--", "sh", "-c", "cat > /tmp/server.py"), 0)
	s, err := c.Workspaces.Open(t.Context(), "quay", wire.Run{Columns: 80, Rows: 24})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	began := time.Now()
	if err := s.Send('i', []byte("python3 /tmp/server.py\n")); err != nil {
		t.Fatal(err)
	}
	var port wire.Port
	for end := time.Now().Add(slack * 5 * time.Second); !port.Listening && time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		ports, err := c.Ports.List(t.Context(), "quay", false)
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range ports {
			if p.Number == 8000 {
				port = p
			}
		}
	}
	t.Logf("it was seen to listen after %s", time.Since(began))
	if !port.Listening || port.Process != "python3" || !port.Loopback || !port.Declared || port.Shared {
		t.Fatalf("the port is %+v", port)
	}
	visitor := func(name string) (*http.Client, *yb.Client) {
		jar, _ := cookiejar.New(nil)
		dialer := &net.Dialer{}
		tr := &http.Transport{DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return dialer.DialContext(ctx, network, strings.TrimPrefix(w.address, "http://")) // *.localhost is here
		}}
		return &http.Client{Jar: jar, Transport: tr, CheckRedirect: func(r *http.Request, _ []*http.Request) error {
			if r.URL.Path == "/visit" {
				return http.ErrUseLastResponse // the console's page: the test goes on from there by the API
			}
			return nil
		}}, w.client(name)
	}
	get := func(h *http.Client, address string) (int, string, *http.Response) {
		t.Helper()
		res, err := h.Get(address)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		body, _ := io.ReadAll(res.Body)
		return res.StatusCode, string(body), res
	}
	h, own := visitor("ingrid")
	code, _, res := get(h, port.Address+"/tides?day=1")
	to, _ := url.Parse(res.Header.Get("Location"))
	if code != http.StatusFound || !strings.HasPrefix(res.Header.Get("Location"), w.address+"/visit?") || to.Query().Get("to") != port.Address+"/tides?day=1" {
		t.Fatalf("a stranger is answered %d, led to %s", code, res.Header.Get("Location"))
	}
	pass, err := own.Ports.Visit(t.Context(), to.Query().Get("to"))
	if err != nil {
		t.Fatal(err)
	}
	code, body, _ := get(h, pass.Go)
	host := strings.TrimPrefix(port.Address, "http://")
	if code != 200 || body != "host "+host+" cookie None path /tides?day=1 address "+port.Address {
		t.Fatalf("the way in ends with %d: %s", code, body)
	}
	if _, body, _ = get(h, port.Address+"/again"); !strings.Contains(body, "cookie theirs=1 path /again") {
		t.Errorf("the second visit is answered %s", body)
	}
	if code, _, _ = get(h, pass.Go); code != http.StatusUnauthorized {
		t.Errorf("a pass used again is answered %d", code)
	}
	// WebSocket, with the cookie of the host.
	u, _ := url.Parse(port.Address)
	header := http.Header{}
	for _, k := range h.Jar.Cookies(u) {
		header.Add("Cookie", k.Name+"="+k.Value)
	}
	dialer := websocket.Dialer{NetDialContext: h.Transport.(*http.Transport).DialContext}
	ws, _, err := dialer.Dial("ws://"+host+"/live", header)
	if err != nil {
		t.Fatalf("WebSocket: %v", err)
	}
	if err := ws.WriteMessage(websocket.TextMessage, []byte("reload")); err != nil {
		t.Fatal(err)
	}
	if _, m, err := ws.ReadMessage(); err != nil || string(m) != "daoler" {
		t.Errorf("over WebSocket came %q, %v", m, err)
	}
	ws.Close()
	if _, res, err := dialer.Dial("ws://"+host+"/live", nil); err == nil || res == nil || res.StatusCode != http.StatusUnauthorized {
		t.Errorf("WebSocket without the cookie is answered %v, %v", res, err)
	}
	// A colleague: not before it is shared, and not after.
	_, mats := visitor("mats")
	if _, err := mats.Ports.Visit(t.Context(), port.Address); err == nil {
		t.Error("a private port is shown to a colleague")
	}
	w.must(w.as("mats", "", "port", "list", "quay.ingrid"), 3)
	w.must(w.as("ingrid", "", "port", "share", "quay", "8000"), 0, "everybody signed in")
	hm, mats := visitor("mats")
	if pass, err = mats.Ports.Visit(t.Context(), port.Address); err != nil {
		t.Fatal(err)
	}
	if code, body, _ = get(hm, pass.Go); code != 200 || !strings.Contains(body, "path /") {
		t.Errorf("a shared port is answered %d: %s", code, body)
	}
	w.must(w.as("ingrid", "", "port", "keep-private", "quay", "8000"), 0)
	if code, _, _ = get(hm, port.Address); code != http.StatusNotFound {
		t.Errorf("after it is private again a colleague is answered %d", code)
	}
	for address, want := range map[string]int{strings.Replace(port.Address, "-8000", "-9999", 1): 302, strings.Replace(port.Address, host[:5], "zzzzz", 1): 302} {
		if code, _, _ = get(h, address); code != want {
			t.Errorf("%s is answered %d", address, code)
		}
	}
	// Nobody listens: told, with its name.
	pass, err = own.Ports.Visit(t.Context(), strings.Replace(port.Address, "-8000", "-9999", 1))
	if err != nil {
		t.Fatal(err)
	}
	if code, body, _ = get(h, pass.Go); code < 400 || !strings.Contains(body, "nothing listens on port 9999") {
		t.Errorf("a port nobody listens on is answered %d: %s", code, body)
	}
	// Forwarding to localhost.
	cmd := w.command("ingrid", "", "forward", "quay", "8000:"+strings.TrimPrefix(freeAddress(t), "127.0.0.1:"))
	said, err := cmd.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	line, _ := bufio.NewReader(said).ReadString('\n')
	local, _, _ := strings.Cut(line, " ")
	for range 3 {
		res, err := http.Get("http://" + local + "/by-hand")
		if err != nil {
			t.Fatalf("%s: %v", line, err)
		}
		body, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if !strings.Contains(string(body), "path /by-hand") {
			t.Errorf("forwarded it is answered %s", body)
		}
	}
	_ = cmd.Process.Signal(os.Interrupt)
	if err := cmd.Wait(); cmd.ProcessState.ExitCode() != 130 {
		t.Errorf("forwarding ended with %v", err)
	}
	w.must(w.as("ingrid", "", "forward", "quay", "0"), 2, "no port")
	w.must(w.as("mats", "", "forward", "quay.ingrid", "8000"), 3)
	w.must(w.as("ingrid", "", "stop", "quay"), 0)
	if code, body, _ = get(h, port.Address); code != http.StatusConflict && code != http.StatusBadGateway || !strings.Contains(body, "stopped") {
		t.Errorf("of a stopped workspace it is answered %d: %s", code, body)
	}
}

// A visit by hand of a port wakes its owner's workspace, and comes to the page when
// it is there; what asks by itself, and others, wake nothing. So does who enters.
func TestWokenByAVisit(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.register("lamp", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew", "postStartCommand": "echo lit > index.html; nohup python3 -m http.server 8400 >/dev/null 2>&1 &"}`})
	w.must(w.as("ingrid", "", "launch", "lamp", "--name", "lamp"), 0, "is ready")
	w.must(w.as("ingrid", "", "port", "share", "lamp", "8400"), 0)
	ports, err := w.client("ingrid").Ports.List(t.Context(), "lamp", false)
	if err != nil || len(ports) != 1 {
		t.Fatalf("its ports are %+v, %v", ports, err)
	}
	address := ports[0].Address
	ingrid, mats := w.page(t, "ingrid"), w.page(t, "mats")
	ingrid.do("her page", chromedp.Navigate(address), ingrid.says("lit"))
	mats.do("a colleague sees it", chromedp.Navigate(address), mats.says("lit"))
	ingrid.do("what nobody serves says what is served, and looks again", chromedp.Navigate(strings.Replace(address, "-8400.", "-8401.", 1)), ingrid.says("nothing listens on port 8401"), ingrid.says("-8400.ports"))
	w.must(w.as("ingrid", "", "run", "lamp", "--", "sh", "-c", "cp index.html other; (python3 -m http.server 8401 >/dev/null 2>&1 &)"), 0)
	ingrid.do("and finds it", ingrid.says("lit"))
	ingrid.do("back at the first", chromedp.Navigate(address), ingrid.says("lit"))
	w.must(w.as("ingrid", "", "stop", "lamp"), 0)
	mats.do("others do not wake it", chromedp.Navigate(address+"/?other"), mats.says("lamp is stopped"))
	status, err := chromedp.Run(ingrid.ctx, chromedp.Evaluate[int](`fetch("/again").then((r) => r.status)`, chromedp.EvalAwaitPromise))
	if ws, err2 := w.client("ingrid").Workspaces.Show(t.Context(), "lamp"); err != nil || err2 != nil || ws.Phase != "stopped" || status < 400 {
		t.Errorf("asked by a page it is %s, %d, %v, %v", ws.Phase, status, err, err2)
	}
	ingrid.do("her visit wakes it", chromedp.Navigate(address+"/?one=more"), ingrid.says("lit"))
	w.must(w.as("astrid", "", "journal", "list", "--workspace", "lamp.ingrid"), 0, "somebody came by ports")
	w.must(w.as("ingrid", "", "stop", "lamp"), 0)
	w.must(w.as("ingrid", "", "run", "lamp", "--", "echo", "awake"), 0, "awake", "is being started")
	w.rules("idle:", "idle:\n  wake: [ssh]")
	w.must(w.as("ingrid", "", "stop", "lamp"), 0)
	w.must(w.as("ingrid", "", "run", "lamp", "--", "echo", "awake"), 125, "the house rules do not have it started")
	ingrid.do("nor where the rules say no", chromedp.Navigate(address+"/?another"), ingrid.says("the house rules do not have it started"))
}
