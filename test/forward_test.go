package test

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"syscall"
	"testing"
	"time"

	"yardbench/wire"
)

// Ports are brought here by TCP and UDP, and one of this machine into the workspace. It
// goes on when the service was killed and the workspace was made anew; a stopped
// workspace is started at the beginning.
func TestForwards(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	ingrid := w.client("ingrid")
	here := httptest.NewServer(http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) { fmt.Fprint(out, "from here") }))
	defer here.Close()
	serve := `python3 -c '
import socket, threading, http.server
def echo():
    s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); s.bind(("127.0.0.1", 5353))
    while True:
        d, a = s.recvfrom(65536); s.sendto(b"heard " + d, a)
threading.Thread(target=echo, daemon=True).start()
class H(http.server.BaseHTTPRequestHandler):
    def do_GET(self): self.send_response(200); self.end_headers(); self.wfile.write(b"from there")
http.server.HTTPServer(("127.0.0.1", 8000), H).serve_forever()'
`
	begin := func() {
		t.Helper()
		inside := watch(t, ingrid, "quay", wire.Run{Columns: 80, Rows: 24, Terminal: "serve"})
		inside.types("stty -echo\n" + serve)
	}
	w.must(w.as("ingrid", "", "stop", "quay"), 0)
	port := func(address string) string { _, p, _ := net.SplitHostPort(address); return p }
	tcp, udp, theirs := freeAddress(t), freeAddress(t), "3222"
	forward := w.command("ingrid", "", "forward", "quay", "8000:"+port(tcp), "5353:"+port(udp)+"/udp", "--into", port(here.Listener.Addr().String())+":"+theirs)
	var said bytes.Buffer
	forward.Stderr = &said
	if err := forward.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- forward.Wait() }()
	within := func(what string, is func() bool) {
		t.Helper()
		for end := time.Now().Add(slack * 30 * time.Second); !is(); time.Sleep(100 * time.Millisecond) {
			select {
			case err := <-ended:
				t.Fatalf("%s: it ended with %v", what, err)
			default:
			}
			if time.Now().After(end) {
				t.Fatalf("%s: never", what)
			}
		}
	}
	all := func(when string) {
		t.Helper()
		within(when+": TCP", func() bool {
			res, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true}, Timeout: 5 * time.Second}).Get("http://" + tcp)
			if err != nil {
				return false
			}
			defer res.Body.Close()
			p, err := io.ReadAll(res.Body)
			return err == nil && string(p) == "from there"
		})
		within(when+": UDP", func() bool {
			c, err := net.Dial("udp", udp)
			if err != nil {
				t.Fatal(err)
			}
			defer c.Close()
			long := strings.Repeat("x", 40_000)
			for _, text := range []string{"tide", "", long} {
				buf := make([]byte, 65536)
				_ = c.SetDeadline(time.Now().Add(2 * time.Second)) // a failure shows at the read
				if _, err := c.Write([]byte(text)); err != nil {
					return false
				}
				if n, err := c.Read(buf); err != nil || string(buf[:n]) != "heard "+text {
					return false
				}
			}
			return true
		})
		within(when+": into it", func() bool {
			r := w.as("ingrid", "", "run", "quay", "--", "python3", "-c", "import urllib.request; print(urllib.request.urlopen('http://localhost:"+theirs+"/').read())")
			return strings.Contains(r.out, "from here")
		})
	}
	within("it is started", func() bool {
		now, err := ingrid.Workspaces.Show(t.Context(), "quay")
		return err == nil && now.Phase == "ready"
	})
	begin()
	all("at the beginning")
	w.kill()
	w.start()
	ingrid = w.client("ingrid")
	all("after the service was killed")
	w.must(w.as("ingrid", "", "rebuild", "quay"), 0, "quay is ready")
	begin()
	all("in a new container")
	w.must(w.as("ingrid", "", "forward", "quay", "--into", "3000:"+theirs), 4, "does not listen on port "+theirs)
	w.must(w.as("ingrid", "", "forward", "quay", "8000:"+port(tcp)), 1, "choose another port here")
	if err := forward.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	<-ended
	if text := said.String(); !strings.Contains(text, "quay is stopped; it is started") || !strings.Contains(text, "(UDP) of quay") || strings.Contains(text, "panic") {
		t.Errorf("it says %s", text)
	}
	w.must(w.as("mats", "", "forward", "quay.ingrid", "--into", "3000"), 3)
}
