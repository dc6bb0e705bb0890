package access

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/gorilla/websocket"

	"yardbench/internal/service"
	"yardbench/wire"
)

// program is what listens on a port: it speaks HTTP/1.1 and HTTP/2 without TLS.
func program(w http.ResponseWriter, r *http.Request) {
	flush := http.NewResponseController(w).Flush
	switch r.URL.Path {
	case "/length":
		n, _ := io.Copy(io.Discard, r.Body)
		fmt.Fprintf(w, "%s %d %s", r.Proto, n, r.Trailer.Get("X-Sum"))
	case "/echo": // as gRPC streams: an answer for each part, and how it went at the end
		w.Header().Set("Trailer", "Grpc-Status, Grpc-Message")
		w.Header().Set("Content-Type", "application/grpc")
		w.WriteHeader(http.StatusOK)
		_ = flush()
		buf := make([]byte, 1024)
		for {
			n, err := r.Body.Read(buf)
			if n > 0 {
				fmt.Fprintf(w, "%s %s;", r.Proto, buf[:n])
				_ = flush()
			}
			if err != nil {
				break
			}
		}
		w.Header().Set("Grpc-Status", "0")
		w.Header().Set("Grpc-Message", "all went well")
	case "/events":
		w.Header().Set("Content-Type", "text/event-stream")
		for i := range 3 {
			fmt.Fprintf(w, "data: %d\n\n", i)
			_ = flush()
		}
		<-r.Context().Done()
	case "/socket":
		c, err := (&websocket.Upgrader{CheckOrigin: func(*http.Request) bool { return true }}).Upgrade(w, r, nil)
		if err != nil {
			return
		}
		defer c.Close()
		kind, p, err := c.ReadMessage()
		if err == nil {
			_ = c.WriteMessage(kind, append([]byte("heard "), p...))
		}
	default:
		fmt.Fprintf(w, "%s %s %s|%s|%s|%s", r.Proto, r.Host, r.URL.Path, r.Header.Get("X-Forwarded-Host"), r.Header.Get("Cookie"), r.Header.Get("Forwarded"))
	}
}

// portOf serves the ports' door, with a program behind the port of a visit; dials
// counts the connections to it.
func portOf(t *testing.T) (c *http.Client, cookie string, dials *atomic.Int64, s *service.Service, a service.Actor, host string) {
	t.Helper()
	return behind(t, program)
}

// behind is portOf with another program.
func behind(t *testing.T, program http.HandlerFunc) (c *http.Client, cookie string, dials *atomic.Int64, s *service.Service, a service.Actor, host string) {
	t.Helper()
	speaks := &http.Protocols{}
	speaks.SetHTTP1(true)
	speaks.SetUnencryptedHTTP2(true)
	inside := httptest.NewUnstartedServer(program)
	inside.Config.Protocols = speaks
	inside.Start()
	t.Cleanup(inside.Close)
	p, s, a, host := door(t)
	dials = &atomic.Int64{}
	p.Dial = func(ctx context.Context, _ service.Visit) (net.Conn, error) {
		dials.Add(1)
		return (&net.Dialer{}).DialContext(ctx, "tcp", inside.Listener.Addr().String())
	}
	outside := httptest.NewUnstartedServer(p)
	outside.Config.Protocols = speaks
	outside.Start()
	t.Cleanup(outside.Close)
	c = &http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "tcp", outside.Listener.Addr().String())
	}}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	t.Cleanup(c.CloseIdleConnections)
	pass, err := s.Ports.VisitPort(t.Context(), a, wire.PortVisit{Address: "http://" + host + "/"})
	if err != nil {
		t.Fatal(err)
	}
	u, err := url.Parse(pass.Go)
	if err != nil {
		t.Fatal(err)
	}
	res, err := c.Get(u.String())
	if err != nil || len(res.Cookies()) != 1 {
		t.Fatalf("it is not entered: %v, %v", res, err)
	}
	res.Body.Close()
	return c, cookieName + "=" + res.Cookies()[0].Value, dials, s, a, host
}

// Every kind of stream goes through a port's address, both ways, with what comes at
// its end, over connections that are kept.
func TestStreamsThroughAPort(t *testing.T) {
	c, cookie, dials, s, a, host := portOf(t)
	request := func(method, path string, body io.Reader) *http.Request {
		r, err := http.NewRequestWithContext(t.Context(), method, "http://"+host+path, body)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Cookie", cookie+"; theirs=a b\"c")
		return r
	}
	text := func(r *http.Request) string {
		t.Helper()
		res, err := c.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		b, err := io.ReadAll(res.Body)
		if err != nil {
			t.Error(err)
		}
		return string(b)
	}
	before := dials.Load()
	for range 200 {
		if got := text(request("GET", "/a", nil)); got != "HTTP/1.1 "+host+" /a|"+host+"|theirs=a b\"c|for=127.0.0.1;host=\""+host+"\";proto=http" {
			t.Fatalf("it is answered %q", got)
		}
	}
	if n := dials.Load() - before; n > 3 {
		t.Errorf("two hundred requests of a visit took %d connections", n)
	}
	up := request("POST", "/length", io.LimitReader(zero{}, 64<<20))
	up.Trailer = http.Header{"X-Sum": {"abc"}}
	if got := text(up); got != "HTTP/1.1 67108864 abc" {
		t.Errorf("an upload is %q", got)
	}

	events, err := c.Do(request("GET", "/events", nil))
	if err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(events.Body)
	for i := range 3 {
		for lines.Scan() && lines.Text() == "" {
		}
		if lines.Text() != fmt.Sprint("data: ", i) {
			t.Errorf("an event is %q", lines.Text())
		}
	}
	events.Body.Close()

	d := websocket.Dialer{NetDialContext: c.Transport.(*http.Transport).DialContext}
	ws, _, err := d.Dial("ws://"+host+"/socket", http.Header{"Cookie": {cookie}, "Origin": {"http://" + host}})
	if err != nil {
		t.Fatal(err)
	}
	if err := ws.WriteMessage(websocket.TextMessage, []byte("six bells")); err != nil {
		t.Fatal(err)
	}
	if _, p, err := ws.ReadMessage(); err != nil || string(p) != "heard six bells" {
		t.Errorf("a socket says %q, %v", p, err)
	}
	ws.Close()

	// gRPC: HTTP/2 from end to end, each part answered as it comes, and a status behind.
	second := &http.Transport{DialContext: c.Transport.(*http.Transport).DialContext, Protocols: &http.Protocols{}}
	second.Protocols.SetUnencryptedHTTP2(true)
	defer second.CloseIdleConnections()
	in, feed := io.Pipe()
	r := request("POST", "/echo", in)
	r.Header.Set("Content-Type", "application/grpc+proto")
	r.Header.Set("Te", "trailers")
	answered := make(chan *http.Response, 1)
	go func() {
		res, err := second.RoundTrip(r)
		if err != nil {
			t.Error(err)
		}
		answered <- res
	}()
	if _, err := feed.Write([]byte("one")); err != nil {
		t.Fatal(err)
	}
	res := <-answered
	if res == nil {
		t.FailNow()
	}
	defer res.Body.Close()
	part := make([]byte, 64)
	for _, say := range []string{"one", "two", "three"} {
		if say != "one" {
			if _, err := feed.Write([]byte(say)); err != nil {
				t.Fatal(err)
			}
		}
		n, err := res.Body.Read(part)
		if err != nil || string(part[:n]) != "HTTP/2.0 "+say+";" {
			t.Errorf("a part is answered %q, %v", part[:n], err)
		}
	}
	feed.Close()
	if rest, err := io.ReadAll(res.Body); err != nil || len(rest) != 0 || res.Trailer.Get("Grpc-Status") != "0" || res.Trailer.Get("Grpc-Message") != "all went well" {
		t.Errorf("it ends with %q, %v, %v", rest, res.Trailer, err)
	}

	// What was let in a moment ago is not, once its ground is gone; what goes on ends.
	long, err := c.Do(request("GET", "/events", nil))
	if err != nil {
		t.Fatal(err)
	}
	defer long.Body.Close()
	if err := s.SignIns.SignOut(t.Context(), a); err != nil {
		t.Fatal(err)
	}
	began := time.Now()
	_, _ = io.Copy(io.Discard, long.Body) // it breaks off
	if time.Since(began) > 2*time.Second {
		t.Errorf("a stream ends %s after its sign-in", time.Since(began))
	}
	last, err := c.Do(request("GET", "/a", nil))
	if err != nil {
		t.Fatal(err)
	}
	last.Body.Close()
	if last.StatusCode != http.StatusFound {
		t.Errorf("after the sign-out it is answered %d", last.StatusCode)
	}
}

type zero struct{}

func (zero) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// Requests that are read in two ways, or name another host than they go to, reach no
// program and no other's.
func TestSmuggling(t *testing.T) {
	c, cookie, _, _, _, host := portOf(t)
	for name, raw := range map[string]string{
		"two lengths":           "POST /length HTTP/1.1\r\nHost: %h\r\nCookie: %c\r\nContent-Length: 5\r\nContent-Length: 6\r\n\r\nabcdef",
		"a length and chunks":   "POST /length HTTP/1.1\r\nHost: %h\r\nCookie: %c\r\nContent-Length: 5\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\nGET /b HTTP/1.1\r\nHost: %h\r\n\r\n",
		"chunks of a kind":      "POST /length HTTP/1.1\r\nHost: %h\r\nCookie: %c\r\nTransfer-Encoding: xchunked\r\n\r\n0\r\n\r\n",
		"two hosts":             "GET /a HTTP/1.1\r\nHost: %h\r\nHost: other\r\nCookie: %c\r\n\r\n",
		"a host in its address": "GET http://169.254.169.254/a HTTP/1.1\r\nHost: %h\r\nCookie: %c\r\n\r\n",
		"a name with a blank":   "GET /a HTTP/1.1\r\nHost : %h\r\nCookie: %c\r\n\r\n",
		"a folded line":         "GET /a HTTP/1.1\r\nHost: %h\r\nCookie: %c\r\nX-A: b\r\n c\r\n\r\n",
	} {
		conn, err := c.Transport.(*http.Transport).DialContext(t.Context(), "tcp", "")
		if err != nil {
			t.Fatal(err)
		}
		_ = conn.SetDeadline(time.Now().Add(5 * time.Second)) // a failure shows at the read
		fmt.Fprint(conn, strings.NewReplacer("%h", host, "%c", cookie).Replace(raw))
		in := bufio.NewReader(conn)
		res, err := http.ReadResponse(in, nil)
		if err != nil {
			conn.Close()
			continue // it was shut
		}
		body, _ := io.ReadAll(res.Body)
		switch {
		case name == "a length and chunks" && strings.HasPrefix(string(body), "HTTP/1.1 0 "):
			// Chunks count (RFC 9112, 6.3), and the connection is closed after it.
			if more, err := http.ReadResponse(in, nil); err == nil && more.StatusCode == 200 {
				t.Errorf("%s: what follows is read as a request", name)
			}
		case name == "a host in its address" && string(body) == "the console":
			// It is asked of the host that it names, which is no port's.
		case name == "a folded line" && res.StatusCode == 200 && strings.Contains(string(body), "/a|"):
		case res.StatusCode < 400:
			t.Errorf("%s is answered %d: %s", name, res.StatusCode, body)
		}
		conn.Close()
	}
}
