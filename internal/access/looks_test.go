package access

import (
	"io"
	"net/http"
	"strings"
	"testing"

	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/service"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Over the door a look link asks first where each visit counts, lets in with a cookie
// of the host alone, and tells who comes too late no more than that.
func TestComingByALookLink(t *testing.T) {
	c, own, _, s, a, host := portOf(t)
	ctx := t.Context()
	open := func(add string) {
		t.Helper()
		astrid := service.Actor{Person: store.Person{ID: "astrid", Role: policy.Operator}}
		if _, err := s.HouseRules.PutRules(ctx, astrid, wire.RulesText{Document: rules.First + add, Reason: "shown to guests"}); err != nil {
			t.Fatal(err)
		}
	}
	open("\nports: {look_links_most: 2 h, public_most: 1 h}\n")
	l, err := s.LookLinks.Make(ctx, a, "quay", wire.NewLookLink{Port: 8000, VisitsMost: 1})
	if err != nil {
		t.Fatal(err)
	}
	ask := func(method, address, cookie string) (*http.Response, string) {
		t.Helper()
		r, err := http.NewRequestWithContext(ctx, method, address, nil)
		if err != nil {
			t.Fatal(err)
		}
		if cookie != "" {
			r.Header.Set("Cookie", cookie)
		}
		res, err := c.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		b, err := io.ReadAll(res.Body)
		if err != nil {
			t.Fatal(err)
		}
		return res, string(b)
	}
	// Programs that look at addresses, and its owner, take none of its visits.
	for range 3 {
		if res, body := ask("GET", l.Address, ""); res.StatusCode != 200 || len(res.Cookies()) != 0 || !strings.Contains(body, "<button") {
			t.Fatalf("it is answered %d: %s", res.StatusCode, body)
		}
	}
	ask("HEAD", l.Address, "")
	if res, _ := ask("GET", l.Address, own); res.StatusCode != 302 || res.Header.Get("Location") != "/" || len(res.Cookies()) != 0 {
		t.Errorf("its owner is answered %d", res.StatusCode)
	}
	for to, want := range map[string]string{"//evil.example": "/", "https://evil.example/": "/"} {
		if res, _ := ask("GET", l.Address+"&to="+to, own); res.Header.Get("Location") != want {
			t.Errorf("to %s it leads to %s", to, res.Header.Get("Location"))
		}
	}
	res, _ := ask("POST", l.Address+"&to=/tides?day=1", "")
	if res.StatusCode != 302 || res.Header.Get("Location") != "/tides?day=1" || len(res.Cookies()) != 1 || res.Cookies()[0].Domain != "" || res.Header.Get("Referrer-Policy") != "no-referrer" {
		t.Fatalf("opened it is answered %d: %v", res.StatusCode, res.Header)
	}
	cookie := cookieName + "=" + res.Cookies()[0].Value
	if res, body := ask("GET", "http://"+host+"/x", cookie); res.StatusCode != 200 || !strings.Contains(body, "/x") || strings.Contains(body, cookieName) {
		t.Errorf("let in, they see %d: %s", res.StatusCode, body)
	}
	if res, body := ask("GET", l.Address, ""); res.StatusCode != 404 || strings.Contains(body, "quay") {
		t.Errorf("the next one is answered %d: %s", res.StatusCode, body)
	}
	if err := s.LookLinks.End(ctx, a, "quay", l.ID); err != nil {
		t.Fatal(err)
	}
	if res, body := ask("GET", "http://"+host+"/x", cookie); res.StatusCode != 404 || len(res.Cookies()) != 1 || res.Cookies()[0].MaxAge >= 0 || strings.Contains(body, "quay") {
		t.Errorf("ended, they are answered %d %v: %s", res.StatusCode, res.Cookies(), body)
	}

	// Public is for who comes without anything.
	if res, _ := ask("GET", "http://"+host+"/x", ""); res.StatusCode != 302 {
		t.Errorf("before it is public a stranger is answered %d", res.StatusCode)
	}
	if _, err := s.Ports.SharePort(ctx, a, "quay", 8000, wire.PortChange{Visitors: "public"}); err != nil {
		t.Fatal(err)
	}
	for _, method := range []string{"GET", "POST"} {
		if res, body := ask(method, "http://"+host+"/x", ""); res.StatusCode != 200 || !strings.Contains(body, "/x") {
			t.Errorf("public, a stranger's %s is answered %d: %s", method, res.StatusCode, body)
		}
	}
	if _, err := s.Ports.SharePort(ctx, a, "quay", 8000, wire.PortChange{Visitors: "owner"}); err != nil {
		t.Fatal(err)
	}
	if res, _ := ask("POST", "http://"+host+"/x", ""); res.StatusCode != 401 {
		t.Errorf("private again, a stranger is answered %d", res.StatusCode)
	}
}
