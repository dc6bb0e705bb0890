package outside

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"strings"
	"sync"
	"time"

	"yardbench/internal/core/plain"
	"yardbench/internal/steward"
)

func exitOf(p []byte) (x steward.Exit, err error) {
	if err := json.Unmarshal(p, &x); err != nil {
		return x, fmt.Errorf("the steward's word on an end cannot be read: %w", err)
	}
	x.Problem, x.Bytes = plain.Line(x.Problem, maxProblem), max(0, x.Bytes)
	return x, nil
}

// dialer reaches git hosts. Names under .localhost are this machine
// (RFC 6761, 6.3), which not every resolver knows.
var dialer = func(ctx context.Context, network, addr string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, err
	}
	if strings.HasSuffix(host, ".localhost") {
		addr = net.JoinHostPort("127.0.0.1", port)
	}
	return (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, network, addr)
}

var transport = &http.Transport{DialContext: dialer, MaxIdleConnsPerHost: 16, IdleConnTimeout: time.Minute, DisableCompression: true}

// ServeGit is the HTTP proxy behind a steward's stream: it leads to the one
// git host that is allowed and nowhere else.
func ServeGit(c *steward.Conn, allowed string) {
	stream, ok := c.Stream.(net.Conn)
	if !ok {
		return
	}
	conn := &closing{Conn: stream, done: make(chan struct{})}
	proxy := &httputil.ReverseProxy{Rewrite: func(*httputil.ProxyRequest) {}, Transport: transport, FlushInterval: -1}
	server := &http.Server{ReadHeaderTimeout: 30 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Method == http.MethodConnect && r.Host == withPort(allowed, "443"):
			tunnel(w, r)
		case r.Method != http.MethodConnect && r.URL.Scheme == "http" && r.URL.Host == allowed:
			proxy.ServeHTTP(w, r)
		default:
			http.Error(w, "this way leads to "+allowed+" only", http.StatusForbidden)
		}
	})}
	_ = server.Serve(&oneListener{conn: conn, done: conn.done}) // ends with the one connection
}

func withPort(host, port string) string {
	if _, _, err := net.SplitHostPort(host); err == nil {
		return host
	}
	return net.JoinHostPort(host, port)
}

func tunnel(w http.ResponseWriter, r *http.Request) {
	to, err := dialer(r.Context(), "tcp", r.Host)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	defer to.Close()
	hj, ok := w.(http.Hijacker)
	if !ok {
		return
	}
	from, buf, err := hj.Hijack()
	if err != nil {
		return
	}
	defer from.Close()
	if _, err := io.WriteString(from, "HTTP/1.1 200 Connected\r\n\r\n"); err != nil {
		return
	}
	go func() {
		_, _ = io.Copy(to, buf) // the end of either direction ends both
		to.Close()
	}()
	_, _ = io.Copy(from, to)
}

// oneListener hands out one connection, then waits for its end.
type oneListener struct {
	conn net.Conn
	done chan struct{}
	once sync.Once
}

func (l *oneListener) Accept() (net.Conn, error) {
	var c net.Conn
	l.once.Do(func() { c = l.conn })
	if c != nil {
		return c, nil
	}
	<-l.done
	return nil, net.ErrClosed
}

func (l *oneListener) Close() error   { return nil }
func (l *oneListener) Addr() net.Addr { return l.conn.LocalAddr() }

// closing tells when a connection is closed.
type closing struct {
	net.Conn
	once sync.Once
	done chan struct{}
}

func (c *closing) Close() error {
	c.once.Do(func() { close(c.done) })
	return c.Conn.Close()
}
