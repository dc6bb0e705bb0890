package outside

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httputil"
	"path"
	"regexp"
	"strings"
	"sync"
	"time"

	"yardbench/internal/core/plain"
	"yardbench/internal/gitssh"
	"yardbench/internal/reach"
	"yardbench/internal/steward"
)

// ExitOf reads how a process ended, as a steward said it.
func ExitOf(p []byte) (x steward.Exit, err error) {
	if err := json.Unmarshal(p, &x); err != nil {
		return x, fmt.Errorf("the steward's word on an end cannot be read: %w", err)
	}
	x.Problem, x.Bytes = plain.Line(x.Problem, maxProblem), max(0, x.Bytes)
	return x, nil
}

var transport = &http.Transport{DialContext: reach.Dial, MaxIdleConnsPerHost: 16, IdleConnTimeout: time.Minute, DisableCompression: true}

// GitSignIn signs in to a git host; the zero value signs nobody in.
type GitSignIn struct {
	Username, Password string
	// SSH is what a host that is reached by SSH wants instead.
	SSH gitssh.With
	// Refused is what helps where the host refuses it; "" is to give a fresh one.
	Refused string
}

// GitWay is the one git host that a steward's way leads to.
type GitWay struct {
	Scheme, Host string
	// SignIn gives what a request is signed in with; it is asked for each. refused
	// is what to say where the host wants another; what may not go there at all is
	// not let through, and told the same.
	SignIn func(ctx context.Context, push bool) (with GitSignIn, refused string, may bool)
	// Key gives what a program of git's is run with at a host that is reached by SSH.
	// refused is what to say where the host takes that from nobody, and why it does
	// not go there at all.
	Key func(ctx context.Context, host string, push bool) (with gitssh.With, refused string, may bool)
}

// ofGit tells whether a request is one of git's smart protocol
// (gitprotocol-http(5)), or of its extension for large files (Git LFS, Batch
// API). Nothing else of a host is signed in to: its other doors may end in the
// same words, and steps upwards or letters in code would lead there from here.
func ofGit(r *http.Request) bool {
	p := r.URL.EscapedPath()
	if path.Clean(p) != p || strings.ContainsAny(p, "\\;") || encodedStep.MatchString(p) {
		return false
	}
	switch {
	case strings.HasSuffix(p, "/info/refs"):
		return r.Method == http.MethodGet && strings.HasPrefix(r.URL.Query().Get("service"), "git-")
	case strings.HasSuffix(p, "/git-upload-pack"), strings.HasSuffix(p, "/git-receive-pack"):
		return r.Method == http.MethodPost
	}
	return largeFiles.MatchString(p)
}

var (
	encodedStep = regexp.MustCompile(`(?i)%(2e|2f|5c|25)`)
	largeFiles  = regexp.MustCompile(`/info/lfs/(objects|locks)(/[0-9A-Za-z._-]+)*$`)
)

// maxBatch bounds what is read of a request for large files to see what it asks
// for; git's own clients name a hundred files at once, some 100 bytes each.
const maxBatch = 1 << 20

// pushes tells whether a request of git changes what the host has. Of a batch of
// large files that stands in its body, which is written anew from what was read of
// it: a word that stands there twice, or in other letters, is not another to the host.
func pushes(r *http.Request) (bool, error) {
	p := r.URL.Path
	switch {
	case strings.HasSuffix(p, "/info/refs"):
		return r.URL.Query().Get("service") == "git-receive-pack", nil
	case strings.HasSuffix(p, "/git-receive-pack"):
		return true, nil
	case strings.HasSuffix(p, "/info/lfs/objects/batch"):
		body, err := io.ReadAll(http.MaxBytesReader(nil, r.Body, maxBatch))
		if err != nil {
			return false, fmt.Errorf("a batch of large files cannot be read: %w", err)
		}
		batch, operation := map[string]json.RawMessage{}, ""
		if err := json.Unmarshal(body, &batch); err != nil {
			return false, fmt.Errorf("a batch of large files cannot be read: %w", err)
		}
		for name, value := range batch {
			if name == "operation" {
				err = json.Unmarshal(value, &operation)
			} else if strings.EqualFold(name, "operation") {
				delete(batch, name)
			}
		}
		if err == nil {
			body, err = json.Marshal(batch)
		}
		r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
		return operation != "download", err
	case strings.Contains(p, "/info/lfs/"):
		return r.Method != http.MethodGet, nil
	}
	return false, nil
}

// sign hands a request on to the host, signed in. What a host lets nobody read
// is answered by a refusal that says why, as git shows it: nobody in a
// workspace could give a better password.
func (w GitWay) sign(rw http.ResponseWriter, r *http.Request) {
	if !ofGit(r) {
		http.Error(rw, "this way is for git alone", http.StatusForbidden)
		return
	}
	push, err := pushes(r)
	if err != nil {
		http.Error(rw, err.Error(), http.StatusBadRequest)
		return
	}
	with, refused, may := w.SignIn(r.Context(), push)
	if !may {
		http.Error(rw, refused, http.StatusForbidden)
		return
	}
	own := r.Header.Get("Authorization") != ""
	proxy := &httputil.ReverseProxy{Transport: transport, FlushInterval: -1, ErrorLog: quiet,
		Rewrite: func(p *httputil.ProxyRequest) {
			p.Out.URL.Scheme, p.Out.URL.Host, p.Out.Host = w.Scheme, w.Host, w.Host
			if !own && with.Username != "" {
				p.Out.SetBasicAuth(with.Username, with.Password)
			}
		},
		ModifyResponse: func(res *http.Response) error {
			if to, here := strings.CutPrefix(res.Header.Get("Location"), "https://"+w.Host+"/"); here {
				res.Header.Set("Location", "http://"+w.Host+"/"+to) // by the same way
			}
			if res.StatusCode != http.StatusUnauthorized || own {
				return nil
			}
			res.Body.Close()
			body := refused + "\n"
			res.StatusCode, res.Status = http.StatusForbidden, ""
			res.Header = http.Header{"Content-Type": {"text/plain; charset=utf-8"}}
			res.Body, res.ContentLength, res.TransferEncoding = io.NopCloser(strings.NewReader(body)), int64(len(body)), nil
			return nil
		}}
	proxy.ServeHTTP(rw, r)
}

var quiet = log.New(io.Discard, "", 0) // a host that is away is told to who asks

// ServeGit is the HTTP proxy behind a steward's stream: it leads to the one
// git host that is allowed and nowhere else. What comes in the clear is handed
// on as the host wants it, signed in; a tunnel signs nobody in.
func ServeGit(c *steward.Conn, way GitWay) {
	stream, ok := c.Stream.(net.Conn)
	if !ok {
		return
	}
	conn := &closing{Conn: stream, done: make(chan struct{})}
	server := &http.Server{ReadHeaderTimeout: 30 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Method == http.MethodConnect && r.Header.Get(steward.GitProgram) != "":
			way.program(w, r)
		case r.Method == http.MethodConnect && way.Host != "" && r.Host == withPort(way.Host, "443"):
			tunnel(w, r)
		case r.Method != http.MethodConnect && r.URL.Scheme == "http" && r.URL.Host == way.Host:
			way.sign(w, r)
		default:
			http.Error(w, "this way leads to the repository's git host only: "+way.Host, http.StatusForbidden)
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
	to, err := reach.Dial(r.Context(), "tcp", r.Host)
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
