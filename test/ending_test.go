package test

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"strings"
	"testing"
	"time"

	"github.com/gorilla/websocket"

	yb "yardbench/client"
	"yardbench/internal/demo"
	"yardbench/wire"
)

// What is open ends within two seconds with what it stands on: a terminal, a
// run, a tunnel, what streams through a port, a WebSocket through one, and the
// events.
func TestEndingAccessEndsWhatIsOpen(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	operator := w.client("astrid")
	const server = `import base64, hashlib, http.server, time
class H(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        if self.headers.get("Upgrade") == "websocket":
            key = base64.b64encode(hashlib.sha1((self.headers["Sec-WebSocket-Key"] + "258EAFA5-E914-47DA-95CA-C5AB0DC85B11").encode()).digest()).decode()
            self.wfile.write(("HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Accept: " + key + "\r\n\r\n").encode())
            while True: self.wfile.write(b"\x81\x04tick"); self.wfile.flush(); time.sleep(0.1)
        self.send_response(200); self.end_headers()
        while True: self.wfile.write(b"tick\n"); self.wfile.flush(); time.sleep(0.1)
    def log_message(self, *a): pass
http.server.ThreadingHTTPServer(("127.0.0.1", 8000), H).serve_forever()
`
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0)
	w.must(w.as("ingrid", server, "run", "quay", "--", "sh", "-c", "cat > /tmp/server.py; setsid python3 /tmp/server.py >/dev/null 2>&1 </dev/null & sleep 2"), 0)
	w.register("slow-tide", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew", "onCreateCommand": "while :; do echo tick; sleep 0.1; done"}`})
	w.must(w.as("ingrid", "", "launch", "slow-tide", "--no-wait"), 0)
	w.until(w.client("ingrid"), "slow-tide", 20*time.Second, inPhase("starting"))
	closed, team := true, "Harbour"
	for _, ending := range []struct {
		name string
		do   func(own *yb.Client) error
		all  bool
	}{
		{"signing out", func(own *yb.Client) error { return own.Self.SignOut(t.Context()) }, true},
		{"another team", func(*yb.Client) error {
			_, err := operator.People.Change(t.Context(), "ingrid", wire.PersonChange{Team: &team})
			return err
		}, false}, // whose workspace it is stays as it was
		{"closing the account", func(*yb.Client) error {
			_, err := operator.People.Change(t.Context(), "ingrid", wire.PersonChange{Closed: &closed})
			return err
		}, true},
	} {
		stranger, err := yb.New(w.address, "")
		if err != nil {
			t.Fatal(err)
		}
		in, err := stranger.Self.SignIn(t.Context(), "ingrid", demo.Password)
		if err != nil {
			t.Fatal(err)
		}
		own, err := yb.New(w.address, in.Token)
		if err != nil {
			t.Fatal(err)
		}
		type open struct {
			what string
			read func() error // blocks until it has ended
		}
		var opens []open
		session := func(what string, in wire.Run) {
			s, err := own.Workspaces.Open(t.Context(), "quay", in)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { s.Close() })
			if _, _, err := s.Receive(); err != nil {
				t.Fatalf("%s: %v", what, err)
			}
			opens = append(opens, open{what, func() error {
				for {
					if _, _, err := s.Receive(); err != nil {
						return err
					}
				}
			}})
		}
		session("a terminal", wire.Run{Columns: 80, Rows: 24, Terminal: "t"})
		session("a run", wire.Run{Argv: []string{"sh", "-c", "while :; do echo tick; sleep 0.1; done"}})
		near, far := net.Pipe()
		go func() {
			_ = own.Ports.Tunnel(t.Context(), "quay", 8000, far) // ends with what it carries
			far.Close()
		}()
		if _, err := near.Write([]byte("GET / HTTP/1.0\r\n\r\n")); err != nil {
			t.Fatal(err)
		}
		until := func(r io.Reader) func() error { return func() error { _, err := io.Copy(io.Discard, r); return err } }
		opens = append(opens, open{"a tunnel", until(near)})
		jar, _ := cookiejar.New(nil)
		here := &http.Transport{DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, strings.TrimPrefix(w.address, "http://"))
		}}
		visitor := &http.Client{Jar: jar, Transport: here}
		ports, err := own.Ports.List(t.Context(), "quay", false)
		if err != nil {
			t.Fatal(err)
		}
		pass, err := own.Ports.Visit(t.Context(), ports[0].Address+"/")
		if err != nil {
			t.Fatal(err)
		}
		res, err := visitor.Get(pass.Go)
		if err != nil || res.StatusCode != 200 {
			t.Fatal(res, err)
		}
		t.Cleanup(func() { res.Body.Close() })
		opens = append(opens, open{"what streams through a port", until(res.Body)})
		header := http.Header{}
		for _, k := range jar.Cookies(res.Request.URL) {
			header.Add("Cookie", k.Name+"="+k.Value)
		}
		ws, _, err := (&websocket.Dialer{NetDialContext: here.DialContext}).Dial("ws"+strings.TrimPrefix(ports[0].Address, "http")+"/live", header)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { ws.Close() })
		opens = append(opens, open{"a WebSocket through a port", func() error {
			for {
				if _, _, err := ws.ReadMessage(); err != nil {
					return err
				}
			}
		}})
		for what, path := range map[string]string{"the events": "/events", "a log that is followed": "/workspaces/slow-tide/log?follow=true"} {
			ask, _ := http.NewRequestWithContext(t.Context(), http.MethodGet, w.address+"/api/v1"+path, nil)
			ask.Header.Set("Authorization", "Bearer "+in.Token)
			stream, err := http.DefaultClient.Do(ask)
			if err != nil || stream.StatusCode != 200 {
				t.Fatal(stream, err)
			}
			t.Cleanup(func() { stream.Body.Close() })
			if line, err := bufio.NewReader(stream.Body).ReadString('\n'); err != nil {
				t.Fatal(line, err)
			}
			opens = append(opens, open{what, until(stream.Body)})
		}

		time.Sleep(300 * time.Millisecond)
		ended := make(chan string, len(opens))
		for _, o := range opens {
			go func() {
				err := o.read()
				var p *wire.Problem
				if (o.what == "a terminal" || o.what == "a run") && (!errors.As(err, &p) || p.Type != "urn:yardbench:problem:access-ended") {
					t.Errorf("%s, %s: it ends with %v", ending.name, o.what, err)
				}
				ended <- o.what
			}()
		}
		select {
		case what := <-ended:
			t.Fatalf("%s: %s has ended before", ending.name, what)
		case <-time.After(300 * time.Millisecond):
		}
		if err := ending.do(own); err != nil {
			t.Fatal(err)
		}
		left := map[string]bool{}
		for _, o := range opens {
			left[o.what] = ending.all || o.what == "the events" || o.what == "a log that is followed"
		}
		for limit := time.After(2 * time.Second); ; {
			waits := 0
			for _, l := range left {
				if l {
					waits++
				}
			}
			if waits == 0 {
				break
			}
			select {
			case what := <-ended:
				if !left[what] {
					t.Errorf("%s: %s has ended with it", ending.name, what)
				}
				delete(left, what)
				continue
			case <-limit:
				t.Fatalf("%s: two seconds later there is still %v", ending.name, left)
			}
		}
		if !ending.all {
			if err := own.Self.SignOut(t.Context()); err != nil {
				t.Fatal(err)
			}
			for range len(left) {
				<-ended
			}
		}
	}
}
