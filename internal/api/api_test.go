package api_test

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	yb "yardbench/client"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/demo"
	"yardbench/internal/serve"
	"yardbench/internal/service"
	"yardbench/internal/store"
	"yardbench/internal/store/blank"
	"yardbench/wire"
)

// door runs a service with Skerry Line's people and no engine: what needs
// none is tested here.
func door(t *testing.T) (address string, svc *inside) {
	return doorTo(t, "unix:///nowhere.sock")
}

// inside is what stands behind the door.
type inside struct {
	*service.Service
	rooms service.Rooms
}

// doorTo is door with a yard.
func doorTo(t *testing.T, engine string, changes ...func(*serve.Config)) (address string, svc *inside) {
	t.Helper()
	dir, err := os.MkdirTemp("", "yb")
	if err != nil {
		t.Fatal(err)
	}
	blank.Put(t, filepath.Join(dir, "yardbench.db"))
	ctx, cancel := context.WithCancel(t.Context())
	ready, ended := make(chan string, 1), make(chan error, 1)
	go func() {
		c := serve.Config{DataDir: dir, Listen: "127.0.0.1:0", Engine: engine, Addresses: netip.MustParsePrefix("10.213.0.0/16"), SimTimes: map[string]time.Duration{}, SimOthers: demo.SimulatedOthers(),
			Console: fstest.MapFS{"index.html": {Data: []byte("<title>the console</title>")}, "assets/a.js": {Data: []byte("1")}, "assets/b.js": {Data: []byte("plain")}, "assets/b.js.gz": {Data: []byte("packed")}},
			Prepare: func(ctx context.Context, s *service.Service, rooms service.Rooms) error {
				svc = &inside{s, rooms}
				return demo.FillPeople(ctx, s, rooms, "http://git.skerryline.localhost:1")
			}, Ready: func(a string) { ready <- a }}
		for _, change := range changes {
			change(&c)
		}
		ended <- serve.Run(ctx, c)
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
	in, err := c.Self.SignIn(t.Context(), name, demo.Password)
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
		{"no time", "GET", "/journal?from=soon", ``, 422, "soon"},
		{"a time that ends before it begins", "GET", "/journal?from=2026-11-02&to=2026-11-01", ``, 422, "end it after it begins"},
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
	if _, err := mustClient(t, address, token).Workspaces.List(t.Context(), yb.ListQuery{}); err != nil {
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
	for site, want := range map[string]int{"cross-site": 403, "same-site": 403, "same-origin": 404, "none": 404} {
		if res, _ := call(t, "GET", address+"/api/v1/workspaces/x/files/entry?wake=true", "", with("Sec-Fetch-Site", site)); res.StatusCode != want {
			t.Errorf("a workspace woken from %s is answered %d", site, res.StatusCode)
		}
	}
	upgrade := with("Origin", "http://elsewhere.example", "Connection", "Upgrade", "Upgrade", "websocket", "Sec-WebSocket-Version", "13", "Sec-WebSocket-Key", "dGhlIHNhbXBsZSBub25jZQ==")
	if res, _ := call(t, "GET", address+"/api/v1/workspaces/x/session", "", upgrade); res.StatusCode != 403 {
		t.Errorf("a terminal opened by another origin is answered %d", res.StatusCode)
	}
	if res, _ := call(t, "POST", address+"/api/v1/sign-in?door=console", `{"name":"ingrid","password":"`+demo.Password+`"}`, http.Header{"X-Forwarded-Proto": {"https"}}); res.Cookies()[0].Secure {
		t.Error("whoever asks decides how the cookie travels")
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
		if _, err := ingrid.Secrets.Put(t.Context(), yb.SecretsOf{}, name, wire.SecretValue{Value: "value-of-it", Everywhere: true}); err != nil {
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
		entries, err := c.c.Journal.List(t.Context(), yb.JournalQuery{})
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
	head, err := svc.rooms.Store.Read().JournalHead(t.Context())
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
	if err := svc.rooms.Store.Read().VerifyJournal(t.Context()); err != nil {
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
	for accepts, packed := range map[string]bool{"gzip, br": true, "br": false, "": false} {
		req, err := http.NewRequestWithContext(t.Context(), "GET", address+"/assets/b.js", nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Accept-Encoding", accepts) // so it is not unpacked for us
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		body, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if want := map[bool]string{true: "packed", false: "plain"}[packed]; string(body) != want || (res.Header.Get("Content-Encoding") == "gzip") != packed || !strings.Contains(res.Header.Get("Content-Type"), "javascript") || res.Header.Get("Vary") == "" {
			t.Errorf("to who accepts %q it is %q, with %v", accepts, body, res.Header)
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
			if _, err := c.Secrets.Put(t.Context(), yb.SecretsOf{}, "KEY", wire.SecretValue{Value: "value", Everywhere: true}); err != nil {
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

// What is asked with a wrong time, grouping or body is told by its name; a
// report comes as JSON and as CSV that no spreadsheet takes for a formula.
func TestReports(t *testing.T) {
	address, svc := door(t)
	token := signIn(t, address, "astrid")
	for _, c := range []struct {
		path   string
		status int
		says   string
	}{
		{"/cost?by=colour", 422, "by"}, {"/cost?from=soon", 422, "soon"}, {"/cost?from=2026-11-31", 422, "no day"}, {"/cost?from=2026-11-02&to=2026-11-01", 422, "end it after it begins"},
		{"/cost?from=2020-01-01&to=2026-01-01", 422, "400 days"}, {"/cost?by=day&from=2026-11-01T10:00:00Z&to=2026-11-02", 200, `"rows":[]`},
		{"/journal?person=nobody", 404, "nobody"}, {"/journal?newest=true&limit=1&kind=rules.", 200, "the service's first start"}, {"/prebuild-plans?repository=ghost", 404, "ghost"},
		{"/prebuild-runs/none/sheet", 404, "none"}, {"/prebuild-runs/none/log", 404, "none"}, {"/repositories/ghost/secrets", 404, "ghost"}, {"/repositories/ghost/definition", 404, "ghost"},
	} {
		if res, text := call(t, "GET", address+"/api/v1"+c.path, "", bearer(token)); res.StatusCode != c.status || !strings.Contains(text, c.says) {
			t.Errorf("%s is answered %d: %s", c.path, res.StatusCode, text)
		}
	}
	renew(t, svc, "ingrid")
	err := svc.rooms.Store.Write(t.Context(), func(tx *store.Tx) error {
		p, err := tx.PersonByName(t.Context(), "ingrid")
		if err != nil {
			return err
		}
		w, err := tx.WorkspaceByName(t.Context(), p.ID, "w")
		if err != nil {
			return err
		}
		for _, phase := range []lifecycle.Phase{lifecycle.Waiting, lifecycle.Starting, lifecycle.Ready} {
			if err := tx.SetPhase(t.Context(), &w, phase, map[bool]string{true: p.ID, false: "service"}[phase == lifecycle.Waiting], ""); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	res, text := call(t, "GET", address+"/api/v1/cost.csv?by=workspace", "", bearer(token))
	lines := strings.Split(strings.TrimSpace(text), "\n")
	if res.Header.Get("Content-Type") != "text/csv; charset=utf-8" || !strings.Contains(res.Header.Get("Content-Disposition"), "cost-by-workspace-") || len(lines) != 2 || !strings.HasPrefix(lines[1], "w.ingrid,") {
		t.Errorf("as CSV it is %s:\n%s", res.Header, text)
	}
	var out strings.Builder
	if err := service.WriteCostCSV(&out, wire.Cost{By: "team", Currency: "EUR", Rows: []wire.CostRow{{Key: "=1+2"}, {Key: "a,b", TotalMicros: 1_234_567}}}); err != nil || !strings.Contains(out.String(), "'=1+2,") || !strings.Contains(out.String(), `"a,b",0,0,0,0.000,0.00,0.00,0.00,0.00,1.234567`) {
		t.Errorf("odd names come out as %s, %v", out.String(), err)
	}
}

// The doors that are open to strangers give nothing away and change nothing
// without what only the right ones hold.
func TestOpenDoors(t *testing.T) {
	address, _ := door(t)
	for _, c := range []struct {
		path, body string
		header     http.Header
		status     int
	}{
		{"/enrolments/offer", `{"key":"yb_link_guess"}`, nil, 404}, {"/enrolments/use", `{"key":"yb_link_guess","password":"long enough"}`, nil, 404}, {"/enrolments/use", `{"password":"x"}`, nil, 422},
		{"/pushes", `{"repository":"http://x/y.git","branch":"main","commit":"1"}`, nil, 401}, {"/pushes", `{"repository":"http://x/y.git","branch":"main","commit":"1"}`, http.Header{"Push-Time": {time.Now().UTC().Format(time.RFC3339)}, "Push-Mark": {strings.Repeat("0", 64)}}, 401},
		{"/pushes", `{"repository":"http://x/y.git"}`, nil, 422}, {"/pushes", `not JSON`, nil, 400},
	} {
		if res, text := call(t, "POST", address+"/api/v1"+c.path, c.body, c.header); res.StatusCode != c.status {
			t.Errorf("%s with %s is answered %d: %s", c.path, c.body, res.StatusCode, text)
		}
	}
	// A link made by an operator, over the door, to the account it makes.
	astrid := mustClient(t, address, signIn(t, address, "astrid"))
	e, err := astrid.People.Enrol(t.Context(), wire.NewEnrolment{Role: "lead", Team: "Decks", Hours: 1})
	if err != nil {
		t.Fatal(err)
	}
	stranger, err := yb.New(address, "")
	if err != nil {
		t.Fatal(err)
	}
	_, key, _ := strings.Cut(e.Link, "#")
	if p, err := stranger.People.UseEnrolment(t.Context(), wire.EnrolmentUse{Key: key, Name: "saga", FullName: "Saga Ness", Email: "saga@skerryline.example", Password: demo.Password}); err != nil || p.Team != "Decks" {
		t.Fatalf("the link makes %+v, %v", p, err)
	}
	saga := mustClient(t, address, signIn(t, address, "saga"))
	people, err := saga.People.List(t.Context())
	if err != nil || len(people) < 3 {
		t.Fatalf("a lead sees %d people, %v", len(people), err)
	}
	for _, p := range people {
		if p.Team != "Decks" {
			t.Errorf("a lead of Decks sees %s of %q", p.Name, p.Team)
		}
	}
	tokens, err := saga.Self.Tokens(t.Context())
	if err != nil || len(tokens) != 1 || !tokens[0].Current || tokens[0].Door != "cli" {
		t.Errorf("signed in once she has %+v, %v", tokens, err)
	}
	if err := saga.Self.EndToken(t.Context(), tokens[0].ID); err != nil {
		t.Fatal(err)
	}
	if _, err := saga.Self.Me(t.Context()); err == nil {
		t.Error("an ended sign-in still works")
	}
}
