package outside

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"yardbench/internal/steward"
)

// The service signs in where git goes, over TLS where the host wants that, and
// nowhere else; who is refused is told why, and nobody in the workspace is given
// or asked for anything.
func TestServeGit(t *testing.T) {
	var asked []string
	var last string // body
	host := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name, password, _ := r.BasicAuth()
		body, _ := io.ReadAll(r.Body)
		last = string(body)
		asked = append(asked, r.Method+" "+r.URL.Path+" as "+name+":"+password)
		switch {
		case strings.HasPrefix(r.URL.Path, "/moved"):
			w.Header().Set("Location", "https://"+r.Host+"/tide-board.git/info/refs")
			w.WriteHeader(http.StatusMovedPermanently)
		case name != "ingrid" || password != "right":
			w.Header().Set("WWW-Authenticate", `Basic realm="git"`)
			w.WriteHeader(http.StatusUnauthorized)
		}
	}))
	defer host.Close()
	before := transport.TLSClientConfig
	transport.TLSClientConfig = host.Client().Transport.(*http.Transport).TLSClientConfig
	defer func() { transport.TLSClientConfig = before; transport.CloseIdleConnections() }()
	at := strings.TrimPrefix(host.URL, "https://")
	with, mayPush := GitSignIn{Username: "ingrid", Password: "right"}, true
	through := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }, Transport: &http.Transport{
		Proxy: func(*http.Request) (*url.URL, error) { return url.Parse("http://proxy.invalid") }, TLSClientConfig: host.Client().Transport.(*http.Transport).TLSClientConfig, DisableKeepAlives: true,
		DialContext: func(context.Context, string, string) (net.Conn, error) {
			near, far := net.Pipe()
			go ServeGit(&steward.Conn{Stream: far}, GitWay{Scheme: "https", Host: at, SignIn: func(_ context.Context, push bool) (GitSignIn, string, bool) {
				return with, "give a fresh one", !push || mayPush
			}})
			return near, nil
		}}}
	get := func(address string, header ...string) (int, string, http.Header) {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), "GET", address, nil)
		if err != nil {
			t.Fatal(err)
		}
		for i := 0; i+1 < len(header); i += 2 {
			req.Header.Set(header[i], header[i+1])
		}
		res, err := through.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		body, _ := io.ReadAll(res.Body)
		return res.StatusCode, string(body), res.Header
	}
	refs := "http://" + at + "/tide-board.git/info/refs?service=git-upload-pack"
	if code, body, _ := get(refs); code != 200 || asked[0] != "GET /tide-board.git/info/refs as ingrid:right" {
		t.Errorf("it is answered %d %s; the host saw %v", code, body, asked)
	}
	for _, p := range []string{"/api/v4/user", "/", "/tide-board.git", "/tide-board.git/info/refs/x", "/admin?x=/info/refs", "/api/v1/repos/x/commits/HEAD", "/api/objects/1", "/api/git-upload-pack",
		"/tide-board.git/info/refs", "/x.git/info/lfs/../../../api/v4/user", "/x.git/info/lfs/%2e%2e/%2e%2e/api/v4/user", "/x.git/info/lfs/objects/..%2f..%2f..%2fapi", "/x.git/info/lfs/objects/..", "/x.git//info/refs?service=git-upload-pack",
		"/api/user;/info/refs?service=git-upload-pack", "/api/%252e/info/refs?service=git-upload-pack", "/x.git/info/lfs/else", "/x.git/info/lfs/objects/a%20b"} {
		n := len(asked)
		if code, _, _ := get("http://" + at + p); code != http.StatusForbidden || len(asked) != n {
			t.Errorf("%s is answered %d, and the host saw %v", p, code, asked[n:])
		}
	}
	if code, body, _ := get("http://" + at + "/tide-board.git/info/lfs/objects/0a1b"); code != 200 {
		t.Errorf("a large file is answered %d %s", code, body)
	}
	if code, _, h := get("http://" + at + "/moved.git/info/refs?service=git-upload-pack"); code != 301 || h.Get("Location") != "http://"+at+"/tide-board.git/info/refs" {
		t.Errorf("what has moved is answered %d, %v", code, h)
	}
	for _, with = range []GitSignIn{{Username: "ingrid", Password: "old"}, {}} {
		if code, body, h := get(refs); code != http.StatusForbidden || body != "give a fresh one\n" || h.Get("WWW-Authenticate") != "" {
			t.Errorf("who may not is answered %d %q %v", code, body, h)
		}
	}
	with = GitSignIn{Username: "ingrid", Password: "right"}
	if code, _, h := get(refs, "Authorization", "Basic bWF0czp4"); code != http.StatusUnauthorized || h.Get("WWW-Authenticate") == "" || asked[len(asked)-1] != "GET /tide-board.git/info/refs as mats:x" {
		t.Errorf("one of their own is answered %d %v; the host saw %v", code, h, asked)
	}
	// Where pushes wait nothing that changes the host goes there, and the rest does.
	mayPush = false
	batch := func(operation string) (int, string) {
		t.Helper()
		res, err := through.Post("http://"+at+"/tide-board.git/info/lfs/objects/batch", "application/vnd.git-lfs+json", strings.NewReader(`{"operation": "`+operation+`", "objects": []}`))
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		body, _ := io.ReadAll(res.Body)
		return res.StatusCode, string(body)
	}
	seen := len(asked)
	for _, where := range []string{"/tide-board.git/info/refs?service=git-receive-pack", "/tide-board.git/git-receive-pack?"} {
		if res, err := through.Post("http://"+at+where, "", nil); err != nil || res.StatusCode != http.StatusForbidden {
			t.Errorf("%s: %v, %v", where, res, err)
		}
	}
	if code, body, _ := get("http://" + at + "/tide-board.git/info/refs?service=git-receive-pack"); code != http.StatusForbidden || body != "give a fresh one\n" {
		t.Errorf("a push that waits is answered %d %q", code, body)
	}
	if code, _ := batch("upload"); code != http.StatusForbidden || len(asked) != seen {
		t.Errorf("an upload is answered %d; the host saw %v", code, asked[seen:])
	}
	for _, twice := range []string{`download", "Operation": "upload`, `upload", "Operation": "download`, `upload", "operation": "upload`, `7`} {
		before := len(asked)
		code, _ := batch(twice)
		if strings.HasPrefix(twice, "download") != (code == http.StatusOK) || (len(asked) > before) != (code == http.StatusOK) {
			t.Errorf("%s is answered %d", twice, code)
		}
		if len(asked) > before && last != `{"objects":[],"operation":"download"}` {
			t.Errorf("of %s the host is sent %s", twice, last)
		}
	}
	seen = len(asked)
	if code, _ := batch(`download`); code != http.StatusOK || len(asked) != seen+1 {
		t.Errorf("a download is answered %d; the host saw %v", code, asked[seen:])
	}
	answered := false
	for range 20 { // the answer may come, and the connection end, before all of it is sent
		res, err := through.Post("http://"+at+"/tide-board.git/info/lfs/objects/batch", "application/vnd.git-lfs+json", strings.NewReader(strings.Repeat("x", maxBatch+1)))
		if err != nil {
			continue
		}
		body, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if res.StatusCode != http.StatusBadRequest || !strings.Contains(string(body), "too large") {
			t.Errorf("a batch without bounds is answered %d %q", res.StatusCode, body)
		}
		answered = true
		break
	}
	if !answered {
		t.Error("a batch without bounds is answered nothing")
	}
	if code, _, _ := get(refs); code != http.StatusOK {
		t.Errorf("a fetch is answered %d", code)
	}
	// A tunnel signs nobody in.
	if code, _, _ := get("https://" + at + "/tide-board.git/info/refs"); code != http.StatusUnauthorized || asked[len(asked)-1] != "GET /tide-board.git/info/refs as :" {
		t.Errorf("through a tunnel it is answered %d; the host saw %v", code, asked)
	}
	if _, err := through.Get("https://elsewhere.invalid/x"); err == nil {
		t.Error("a tunnel leads elsewhere")
	}
	if code, _, _ := get("http://elsewhere.invalid/x.git/info/refs?service=git-upload-pack"); code != http.StatusForbidden {
		t.Errorf("elsewhere is answered %d", code)
	}
}
