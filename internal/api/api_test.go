package api_test

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/netip"
	"os"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	yb "yardbench/internal/client"
	"yardbench/internal/demo"
	"yardbench/internal/serve"
	"yardbench/internal/service"
	"yardbench/internal/wire"
)

// door runs a service with Skerry Line's people and no engine: what needs
// none is tested here.
func door(t *testing.T) (address string, svc *service.Service) {
	t.Helper()
	dir, err := os.MkdirTemp("", "yb")
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	ready, ended := make(chan string, 1), make(chan error, 1)
	go func() {
		ended <- serve.Run(ctx, serve.Config{DataDir: dir, Listen: "127.0.0.1:0", Engine: "unix:///nowhere.sock", Addresses: netip.MustParsePrefix("10.213.0.0/16"),
			Console: fstest.MapFS{"index.html": {Data: []byte("<title>the console</title>")}, "assets/a.js": {Data: []byte("1")}},
			Prepare: func(ctx context.Context, s *service.Service) error {
				svc = s
				return demo.FillPeople(ctx, s, "http://git.skerryline.localhost:1")
			}, Ready: func(a string) { ready <- a }})
	}()
	t.Cleanup(func() {
		cancel()
		if err := <-ended; err != nil {
			t.Errorf("the service ended with %v", err)
		}
		os.RemoveAll(dir)
	})
	select {
	case address = <-ready:
		return address, svc
	case err := <-ended:
		ended <- nil
		t.Fatal(err)
		return "", nil
	}
}

func signIn(t *testing.T, address, name string) (token string) {
	t.Helper()
	c, err := yb.New(address, "")
	if err != nil {
		t.Fatal(err)
	}
	in, err := c.SignIn(t.Context(), name, demo.Password)
	if err != nil {
		t.Fatal(err)
	}
	return in.Token
}

func call(t *testing.T, method, url, body string, header http.Header) (*http.Response, string) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if header != nil {
		req.Header = header
	}
	if req.Header.Get("Content-Type") == "" {
		req.Header.Set("Content-Type", "application/json")
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	text, _ := io.ReadAll(res.Body)
	return res, string(text)
}

func bearer(token string) http.Header { return http.Header{"Authorization": {"Bearer " + token}} }

// Every refusal is a problem by RFC 9457 that names what is wrong.
func TestProblems(t *testing.T) {
	address, _ := door(t)
	token := signIn(t, address, "ingrid")
	for _, c := range []struct {
		name, method, path, body string
		status                   int
		says                     string
	}{
		{"no JSON", "POST", "/workspaces", "{", 400, ""},
		{"wrong kind", "POST", "/workspaces", `{"repository": 5}`, 422, "repository"},
		{"missing field", "POST", "/workspaces", `{}`, 422, "repository"},
		{"unknown field", "POST", "/workspaces", `{"repository": "x", "colour": "red"}`, 422, "colour"},
		{"too long", "POST", "/workspaces", `{"repository": "` + strings.Repeat("x", 65) + `"}`, 422, "length"},
		{"too large", "POST", "/workspaces", `{"repository": "` + strings.Repeat("x", 2<<20) + `"}`, 413, ""},
		{"unknown repository", "POST", "/workspaces", `{"repository": "ghost"}`, 404, "ghost"},
		{"unknown workspace", "POST", "/workspaces/ghost/stop", ``, 404, "ghost"},
		{"somebody unknown's workspace", "GET", "/workspaces/a.nobody", ``, 404, "a.nobody"},
		{"a path in a name", "GET", "/workspaces/..%2f..%2fx", ``, 404, ""},
		{"no such page of the API", "GET", "/nothing", ``, 404, "/nothing"},
		{"no number", "GET", "/journal?after=x", ``, 422, "after"},
		{"out of range", "GET", "/journal?limit=100000", ``, 422, "limit"},
		{"empty secret", "PUT", "/secrets/KEY", `{"value": ""}`, 422, "empty"},
		{"no secret", "DELETE", "/secrets/KEY", ``, 404, "KEY"},
		{"host that is none", "PUT", "/git-credentials/a%20b", `{"username": "x", "password": "y"}`, 422, "no host"},
		{"credential git cannot pass on", "PUT", "/git-credentials/git.example", `{"username": "x", "password": "a\nb"}`, 422, "cannot pass on"},
		{"a session that is no WebSocket", "GET", "/workspaces/x/session", ``, 426, "WebSocket"},
	} {
		t.Run(c.name, func(t *testing.T) {
			res, text := call(t, c.method, address+"/api/v1"+c.path, c.body, bearer(token))
			var p wire.Problem
			if err := json.Unmarshal([]byte(text), &p); err != nil || p.Status != res.StatusCode || p.Title == "" {
				t.Errorf("it is no problem by its form: %v: %s", err, text)
			}
			if ct := res.Header.Get("Content-Type"); ct != "application/problem+json" {
				t.Errorf("it travels as %s", ct)
			}
			if res.StatusCode != c.status || !strings.Contains(text, c.says) {
				t.Errorf("it is answered %d: %s", res.StatusCode, text)
			}
		})
	}
	if _, err := mustClient(t, address, token).List(t.Context(), false); err != nil {
		t.Errorf("after all that: %v", err)
	}
}

func mustClient(t *testing.T, address, token string) *yb.Client {
	t.Helper()
	c, err := yb.New(address, token)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// The console's sign-in is a cookie that no script reads and no other site
// uses; signing out ends it.
func TestCookie(t *testing.T) {
	address, _ := door(t)
	res, text := call(t, "POST", address+"/api/v1/sign-in?door=console", `{"name":"ingrid","password":"`+demo.Password+`"}`, nil)
	cookies := res.Cookies()
	if len(cookies) != 1 || strings.Contains(text, "yb_") {
		t.Fatalf("the sign-in is answered with %v and %s", cookies, text)
	}
	c := cookies[0]
	if !c.HttpOnly || c.SameSite != http.SameSiteStrictMode || c.Secure || c.Path != "/" {
		t.Errorf("the cookie is %+v", c)
	}
	with := func(extra ...string) http.Header {
		h := http.Header{"Cookie": {c.Name + "=" + c.Value}}
		for i := 0; i+1 < len(extra); i += 2 {
			h.Set(extra[i], extra[i+1])
		}
		return h
	}
	if res, text := call(t, "GET", address+"/api/v1/me", "", with()); res.StatusCode != 200 || !strings.Contains(text, "Ingrid Solheim") {
		t.Errorf("with the cookie: %d %s", res.StatusCode, text)
	}
	for name, h := range map[string]http.Header{"another site": with("Sec-Fetch-Site", "cross-site"), "another origin": with("Origin", "http://elsewhere.example")} {
		if res, _ := call(t, "PUT", address+"/api/v1/secrets/KEY", `{"value":"xxxx"}`, h); res.StatusCode != 403 {
			t.Errorf("a change by %s is answered %d", name, res.StatusCode)
		}
	}
	upgrade := with("Origin", "http://elsewhere.example", "Connection", "Upgrade", "Upgrade", "websocket", "Sec-WebSocket-Version", "13", "Sec-WebSocket-Key", "dGhlIHNhbXBsZSBub25jZQ==")
	if res, _ := call(t, "GET", address+"/api/v1/workspaces/x/session", "", upgrade); res.StatusCode != 403 {
		t.Errorf("a terminal opened by another origin is answered %d", res.StatusCode)
	}
	if res, _ := call(t, "POST", address+"/api/v1/sign-in?door=console", `{"name":"ingrid","password":"`+demo.Password+`"}`, http.Header{"X-Forwarded-Proto": {"https"}}); !res.Cookies()[0].Secure {
		t.Error("behind TLS the cookie may travel without it")
	}
	if res, _ := call(t, "POST", address+"/api/v1/sign-out", "", with()); res.StatusCode != 204 {
		t.Errorf("the sign-out is answered %d", res.StatusCode)
	}
	if res, _ := call(t, "GET", address+"/api/v1/me", "", with()); res.StatusCode != 401 {
		t.Errorf("after the sign-out the cookie is answered %d", res.StatusCode)
	}
}

// A person sees their own entries, an auditor everybody's; the stream goes on
// after the last entry that was seen, with none lost and none twice.
func TestJournalAndEvents(t *testing.T) {
	address, svc := door(t)
	ingrid, audun := mustClient(t, address, signIn(t, address, "ingrid")), mustClient(t, address, signIn(t, address, "audun"))
	put := func(name string) {
		t.Helper()
		if _, err := ingrid.PutSecret(t.Context(), "", name, wire.SecretValue{Value: "value-of-it", Everywhere: true}); err != nil {
			t.Fatal(err)
		}
	}
	put("ONE")
	mats := mustClient(t, address, signIn(t, address, "mats"))
	for _, c := range []struct {
		who  string
		c    *yb.Client
		want int
	}{{"ingrid", ingrid, 1}, {"audun", audun, 1}, {"mats", mats, 0}} {
		entries, err := c.c.Journal(t.Context(), yb.JournalQuery{})
		got := 0
		for _, e := range entries {
			if e.Kind == "secret.put" {
				got++
			}
		}
		if err != nil || got != c.want {
			t.Errorf("%s sees %d entries of ingrid's secret, %v", c.who, got, err)
		}
	}
	head, err := svc.Store.Read().JournalHead(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	stream := func(after string) *bufio.Scanner {
		req, _ := http.NewRequestWithContext(t.Context(), "GET", address+"/api/v1/events", nil)
		req.Header = bearer(signIn(t, address, "ingrid"))
		if after != "" {
			req.Header.Set("Last-Event-ID", after)
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil || res.StatusCode != 200 {
			t.Fatalf("the stream is answered %v, %v", res, err)
		}
		t.Cleanup(func() { res.Body.Close() })
		return bufio.NewScanner(res.Body)
	}
	names := func(s *bufio.Scanner, until string) (got []string) {
		done := time.AfterFunc(time.Minute, func() { t.Error("the stream says nothing more") })
		defer done.Stop()
		for s.Scan() {
			if _, rest, ok := strings.Cut(s.Text(), `"name":"`); ok {
				name, _, _ := strings.Cut(rest, `"`)
				if got = append(got, name); name == until {
					return got
				}
			}
		}
		return got
	}
	live := stream("")
	put("TWO")
	put("THREE")
	if got := strings.Join(names(live, "THREE"), " "); got != "TWO THREE" {
		t.Errorf("watching tells of %q", got)
	}
	put("FOUR")
	if got := strings.Join(names(stream(itoa(head)), "FOUR"), " "); got != "TWO THREE FOUR" {
		t.Errorf("coming back tells of %q", got)
	}
	if err := svc.Store.Read().VerifyJournal(t.Context()); err != nil {
		t.Error(err)
	}
}

func itoa(n int64) string { b, _ := json.Marshal(n); return string(b) }

// Every path that is neither the API's nor a file's is a page of the console.
func TestConsoleFiles(t *testing.T) {
	address, _ := door(t)
	for path, want := range map[string]string{"/": "the console", "/workspaces/tide-board": "the console", "/assets/a.js": "1", "/../../etc/passwd": "the console", "/api/v2": "there is nothing", "/api": "there is nothing"} {
		res, text := call(t, "GET", address+path, "", nil)
		if !strings.Contains(text, want) || res.Header.Get("Content-Security-Policy") == "" {
			t.Errorf("%s is answered %d %s", path, res.StatusCode, text)
		}
	}
	if res, _ := call(t, "POST", address+"/workspaces", "", nil); res.StatusCode != 404 {
		t.Errorf("a change asked of a page is answered %d", res.StatusCode)
	}
}

// A client that is watching goes on when the service was away.
func TestClientWatches(t *testing.T) {
	address, _ := door(t)
	c := mustClient(t, address, signIn(t, address, "ingrid"))
	n := 0
	err := c.Watch(t.Context(), func() (bool, error) {
		if n++; n == 1 {
			if _, err := c.PutSecret(t.Context(), "", "KEY", wire.SecretValue{Value: "value", Everywhere: true}); err != nil {
				return true, err
			}
		}
		return n >= 2, nil
	})
	if err != nil || n != 2 {
		t.Errorf("watching ended with %v after %d", err, n)
	}
	gone := mustClient(t, "http://127.0.0.1:1", "x")
	ctx, cancel := context.WithTimeout(t.Context(), 500*time.Millisecond)
	defer cancel()
	if err := gone.Watch(ctx, func() (bool, error) { return true, nil }); err == nil {
		t.Error("watching nobody ends well")
	}
}
