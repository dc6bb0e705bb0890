package access

import (
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/rules"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/password"
	"yardbench/internal/reconcile"
	"yardbench/internal/service"
	"yardbench/internal/session"
	"yardbench/internal/store"
	"yardbench/internal/store/blank"
	"yardbench/internal/vault"
	"yardbench/wire"
)

// door is the ports' handler over real records, with one workspace.
func door(t *testing.T) (*Ports, *service.Service, service.Actor, string) {
	t.Helper()
	dir, ctx := t.TempDir(), t.Context()
	st := blank.Open(t, filepath.Join(dir, "a.db"), time.Now)
	v, err := vault.Open(filepath.Join(dir, "key.json"), nil)
	if err != nil {
		t.Fatal(err)
	}
	k := reconcile.New(t.Context(), reconcile.Rooms{Store: st, Vault: v, Bus: &live.Bus{}, Now: time.Now, House: &house.Book{}, Sessions: &session.Sessions{Store: st, Vault: v, PortForm: "http://*.ports.localhost:7080", House: &house.Book{}, Now: time.Now}})
	s := service.New(service.Rooms{Store: st, Vault: v, Bus: k.Bus, Keeper: k, Yard: k.Yard, Installation: k.Installation, House: k.House, Sessions: k.Sessions, Address: "http://127.0.0.1:7080"})
	if err := s.HouseRules.FirstRules(ctx, rules.First); err != nil {
		t.Fatal(err)
	}
	if err == nil {
		err = s.People.AddPerson(ctx, store.Person{Name: "ingrid", FullName: "Ingrid", Email: "ingrid@skerryline.example", Role: "developer", PasswordHash: password.Cheap("long enough")})
	}
	if err != nil {
		t.Fatal(err)
	}
	in, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "long enough"}, "console", service.Caller{})
	if err != nil {
		t.Fatal(err)
	}
	a, err := s.SignIns.Authenticate(ctx, in.Token)
	if err != nil {
		t.Fatal(err)
	}
	err = st.Write(ctx, func(tx *store.Tx) error {
		if err := tx.AddRepository(ctx, store.Repository{ID: "r", Name: "tide-board"}); err != nil {
			return err
		}
		return tx.AddWorkspace(ctx, &store.Workspace{ID: "w", OwnerID: a.ID, Name: "quay", RepositoryID: "r", Phase: "stopped", Wanted: "stopped", Body: 1, Volume: 1, StewardToken: []byte{1}, PortKey: "k3v9x2abcd"})
	})
	if err != nil {
		t.Fatal(err)
	}
	next := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { _, _ = w.Write([]byte("the console")) })
	return NewPorts(s, next), s, a, "k3v9x2abcd-8000.ports.localhost:7080"
}

func ask(p *Ports, method, target string, header http.Header) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, target, nil)
	for k, v := range header {
		r.Header[k] = v
	}
	w := httptest.NewRecorder()
	p.ServeHTTP(w, r)
	return w
}

// Only the hosts of ports are served here; who comes there by hand is led over
// the console, with the address to come back to, and anything else is refused.
func TestStrangersAtAPort(t *testing.T) {
	p, _, _, host := door(t)
	for _, h := range []string{"127.0.0.1:7080", "ports.localhost:7080", "x.ports.localhost:7080", "a-b.ports.localhost:7080", "a-70000.ports.localhost:7080", "k3v9x2abcd-8000.ports.localhost.evil.example:7080", strings.Replace(host, "7080", "80", 1)} {
		if w := ask(p, "GET", "http://"+h+"/", nil); w.Body.String() != "the console" {
			t.Errorf("the host %s is answered %d: %s", h, w.Code, w.Body)
		}
	}
	w := ask(p, "GET", "http://"+host+"/a%20b?c=d&e=%2F", nil)
	if got := w.Header().Get("Location"); w.Code != 302 || got != "http://127.0.0.1:7080/visit?to=http%3A%2F%2F"+strings.Replace(host, ":", "%3A", 1)+"%2Fa%2520b%3Fc%3Dd%26e%3D%252F" {
		t.Errorf("a visit is led to %s", got)
	}
	for _, c := range []struct {
		method string
		header http.Header
	}{{"POST", nil}, {"GET", http.Header{"Upgrade": {"websocket"}}}, {"DELETE", nil}} {
		if w := ask(p, c.method, "http://"+host+"/", c.header); w.Code != 401 {
			t.Errorf("%s %v is answered %d", c.method, c.header, w.Code)
		}
	}
	if w := ask(p, "GET", "http://"+host+"/.yardbench/enter?pass=guess&to=/", nil); w.Code != 401 || w.Header().Get("Set-Cookie") != "" {
		t.Errorf("a guessed pass is answered %d with %q", w.Code, w.Header().Get("Set-Cookie"))
	}
}

// A pass becomes a cookie of that host alone and leads on within it, wherever
// the address says to go.
func TestEntering(t *testing.T) {
	p, s, a, host := door(t)
	for to, want := range map[string]string{"/tides?day=1": "/tides?day=1", "//evil.example/x": "/", "https://evil.example/": "/", "evil": "/", "": "/", "/\\evil.example": "/%5Cevil.example"} {
		pass, err := s.Ports.VisitPort(t.Context(), a, wire.PortVisit{Address: "http://" + host + "/"})
		if err != nil {
			t.Fatal(err)
		}
		_, code, _ := strings.Cut(pass.Go, "pass=")
		code, _, _ = strings.Cut(code, "&")
		r := httptest.NewRequest("GET", "http://"+host+"/.yardbench/enter", nil)
		q := r.URL.Query()
		q.Set("pass", code)
		q.Set("to", to)
		r.URL.RawQuery = q.Encode()
		w := httptest.NewRecorder()
		p.ServeHTTP(w, r)
		cookies := w.Result().Cookies()
		if w.Code != 302 || w.Header().Get("Location") != want || len(cookies) != 1 {
			t.Fatalf("going to %q ends with %d at %q", to, w.Code, w.Header().Get("Location"))
		}
		if c := cookies[0]; !c.HttpOnly || c.Domain != "" || c.SameSite != http.SameSiteLaxMode || strings.Contains(c.Value, a.ID) {
			t.Errorf("the cookie is %+v", c)
		}
		// Inside, the workspace is stopped: that is told, as a page to people
		// and as text to programs, with nothing of it taken for HTML.
		header := http.Header{"Cookie": {cookieName + "=" + cookies[0].Value}, "Accept": {"text/html"}}
		if w := ask(p, "GET", "http://"+host+"/", header); w.Code != 409 || !strings.Contains(w.Body.String(), "stopped") || !strings.Contains(w.Header().Get("Content-Type"), "text/html") {
			t.Errorf("a stopped workspace's page is answered %d: %s", w.Code, w.Body)
		}
		header.Set("Accept", "*/*")
		if w := ask(p, "POST", "http://"+host+"/", header); w.Code != 409 || !strings.HasPrefix(w.Header().Get("Content-Type"), "text/plain") {
			t.Errorf("to a program it is answered %d: %s", w.Code, w.Body)
		}
	}
}

// The program inside gets its own cookies and never ours.
func TestOurCookieStaysOutside(t *testing.T) {
	r := httptest.NewRequest("GET", "/", nil)
	r.Header.Set("Cookie", "a=1; "+cookieName+"=sealed; b=2; "+cookieName+"=again")
	dropCookie(r)
	if got := r.Header.Get("Cookie"); got != "a=1; b=2" {
		t.Errorf("it gets %q", got)
	}
	const odd = `q="a, b"; bad name=x; k={"json":1}; empty=; alone`
	r.Header.Set("Cookie", odd+"; "+cookieName+"=sealed")
	if dropCookie(r); r.Header.Get("Cookie") != odd {
		t.Errorf("of what is no common cookie it gets %q", r.Header.Get("Cookie"))
	}
	r.Header.Set("Cookie", cookieName+"=sealed")
	if dropCookie(r); r.Header.Values("Cookie") != nil {
		t.Errorf("of nothing it gets %q", r.Header.Values("Cookie"))
	}
	for field, want := range map[string]string{"a=b; Domain=ports.localhost; Path=/": "a=b; Path=/", "a=b;domain = x;HttpOnly": "a=b;HttpOnly", "a=domain=x; DOMAIN=x": "a=domain=x", "a=b": "a=b"} {
		if got := withoutDomain(field); got != want {
			t.Errorf("%q is passed on as %q", field, got)
		}
	}
	w := httptest.NewRecorder()
	r.Header.Set("Accept", "text/html")
	page(w, r, &wire.Problem{Status: 502, Detail: "<script>alert(1)</script>"})
	if strings.Contains(w.Body.String(), "<script>") {
		t.Error("a program's words are taken for HTML")
	}
}

// What a page of another workspace, or of another site, asks for is refused;
// one's own pages, links that people follow, and programs are let through.
func TestWhoseRequests(t *testing.T) {
	p, s, a, host := door(t)
	pass, err := s.Ports.VisitPort(t.Context(), a, wire.PortVisit{Address: "http://" + host + "/"})
	if err != nil {
		t.Fatal(err)
	}
	_, code, _ := strings.Cut(pass.Go, "pass=")
	code, _, _ = strings.Cut(code, "&")
	in := ask(p, "GET", "http://"+host+"/.yardbench/enter?to=/&pass="+code, nil)
	cookie := cookieName + "=" + in.Result().Cookies()[0].Value
	other := "http://aaaaaaaaaa-3000.ports.localhost:7080"
	beside := strings.Replace("http://"+host, "-8000", "-3000", 1)
	const stopped = 409 // that is as far as it gets: the workspace is stopped
	for _, c := range []struct {
		what, method string
		header       []string
		want         int
	}{
		{"a program", "POST", nil, stopped},
		{"one's own page", "POST", []string{"Origin", "http://" + host, "Sec-Fetch-Site", "same-origin"}, stopped},
		{"one's own WebSocket", "GET", []string{"Origin", "http://" + host, "Upgrade", "websocket"}, stopped},
		{"an address typed in", "GET", []string{"Sec-Fetch-Site", "none", "Sec-Fetch-Mode", "navigate", "Sec-Fetch-Dest", "document"}, stopped},
		{"a link that is followed", "GET", []string{"Sec-Fetch-Site", "cross-site", "Sec-Fetch-Mode", "navigate", "Sec-Fetch-Dest", "document", "Referer", "http://wiki.skerryline.example/"}, stopped},
		{"another port of the workspace", "POST", []string{"Origin", beside, "Sec-Fetch-Site", "same-site", "Sec-Fetch-Mode", "cors"}, stopped},
		{"a picture of another port of the workspace", "GET", []string{"Referer", beside + "/", "Sec-Fetch-Site", "same-site", "Sec-Fetch-Mode", "no-cors", "Sec-Fetch-Dest", "image"}, stopped},
		{"another workspace", "POST", []string{"Origin", other, "Sec-Fetch-Site", "same-site", "Sec-Fetch-Mode", "no-cors"}, 403},
		{"another workspace, by an old browser", "POST", []string{"Origin", other}, 403},
		{"another workspace's WebSocket", "GET", []string{"Origin", other, "Upgrade", "websocket"}, 403},
		{"a WebSocket of nowhere", "GET", []string{"Origin", "null", "Upgrade", "websocket"}, 403},
		{"a form of another workspace", "POST", []string{"Origin", other, "Sec-Fetch-Site", "same-site", "Sec-Fetch-Mode", "navigate", "Sec-Fetch-Dest", "document"}, 403},
		{"a picture in another workspace's page", "GET", []string{"Referer", other + "/", "Sec-Fetch-Site", "same-site", "Sec-Fetch-Mode", "no-cors", "Sec-Fetch-Dest", "image"}, 403},
		{"a picture without a word of where", "GET", []string{"Sec-Fetch-Site", "same-site", "Sec-Fetch-Mode", "no-cors", "Sec-Fetch-Dest", "image"}, 403},
		{"a frame in another workspace's page", "GET", []string{"Sec-Fetch-Site", "same-site", "Sec-Fetch-Mode", "navigate", "Sec-Fetch-Dest", "iframe"}, 403},
		{"another site", "PUT", []string{"Origin", "https://evil.example", "Sec-Fetch-Site", "cross-site"}, 403},
		{"the workspace's name on another domain", "POST", []string{"Origin", "http://k3v9x2abcd-3000.ports.localhost.evil.example", "Sec-Fetch-Site", "cross-site"}, 403},
		{"the workspace by another scheme", "POST", []string{"Origin", "https://" + host}, 403},
	} {
		h := http.Header{"Cookie": {cookieName + "=tossed; " + cookie}}
		for i := 0; i < len(c.header); i += 2 {
			h.Set(c.header[i], c.header[i+1])
		}
		if w := ask(p, c.method, "http://"+host+"/", h); w.Code != c.want {
			t.Errorf("%s is answered %d, not %d: %s", c.what, w.Code, c.want, w.Body)
		}
	}
	for referer, want := range map[string]string{"": "frame-ancestors 'self'", other + "/": "frame-ancestors 'self'", beside + "/": "frame-ancestors 'self' " + beside} {
		r, h := httptest.NewRequest("GET", "http://"+host+"/", nil), http.Header{"Content-Security-Policy": {"default-src 'self'"}}
		r.Header.Set("Referer", referer)
		p.fence(r, h)
		if got := h.Values("Content-Security-Policy"); len(got) != 2 || got[1] != want || h.Get("Cross-Origin-Resource-Policy") == "" {
			t.Errorf("asked from %q it is fenced by %v", referer, h)
		}
	}
}
