package githost

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"
)

// What a git host says that is not to be taken is refused, by which way it failed.
func TestHostile(t *testing.T) {
	var answer func(w http.ResponseWriter, r *http.Request)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { answer(w, r) }))
	defer server.Close()
	h := Host{Authorize: server.URL + "/a", Token: server.URL + "/t", Device: server.URL + "/d", Revoke: server.URL + "/r", Repositories: server.URL + "/l", Member: "clone_url", Client: "yard", Secret: "s"}
	says := func(status int, text string, headers ...string) {
		answer = func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			for i := 0; i+1 < len(headers); i += 2 {
				w.Header().Set(headers[i], headers[i+1])
			}
			w.WriteHeader(status)
			_, _ = w.Write([]byte(text)) // whoever asks may have gone
		}
	}
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	at, a := h.Begin()
	if u, err := url.Parse(at); err != nil || u.Query().Get("code_challenge_method") != "S256" || u.Query().Get("state") != a.State || strings.Contains(at, a.Verifier) {
		t.Errorf("somebody is sent to %s", at)
	}
	good := url.Values{"state": {a.State}, "code": {"c"}}
	for what, c := range map[string]struct {
		status int
		text   string
		q      url.Values
		want   error
	}{
		"another's state":    {200, `{"access_token":"x"}`, url.Values{"state": {"other"}, "code": {"c"}}, ErrRefused},
		"no state":           {200, `{"access_token":"x"}`, url.Values{"code": {"c"}}, ErrRefused},
		"a refusal":          {200, `{"access_token":"x"}`, url.Values{"state": {a.State}, "error": {"access_denied"}}, ErrRefused},
		"a replayed code":    {400, `{"error":"invalid_grant"}`, good, ErrRefused},
		"nothing lent":       {200, `{}`, good, ErrAway},
		"a token of lines":   {200, `{"access_token":"a\r\nX: y"}`, good, ErrRefused},
		"a token too long":   {200, `{"access_token":"` + strings.Repeat("a", tokenMost+1) + `"}`, good, ErrRefused},
		"a host that breaks": {500, `no`, good, ErrAway},
		"too many":           {429, `{"error":"slow_down"}`, good, ErrAway},
		"rubbish":            {200, `<html>`, good, ErrAway},
	} {
		says(c.status, c.text)
		if _, err := h.Return(ctx, a, c.q); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, not %v", what, err, c.want)
		}
	}
	if _, err := h.Return(ctx, Arrival{}, url.Values{"state": {""}, "code": {"c"}}); !errors.Is(err, ErrRefused) {
		t.Errorf("what nobody began: %v", err)
	}
	answer = func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "http://elsewhere.invalid/", http.StatusTemporaryRedirect)
	}
	if _, err := h.Return(ctx, a, good); !errors.Is(err, ErrAway) {
		t.Errorf("one that sends elsewhere: %v", err)
	}
	if err := h.End(ctx, Tokens{Access: "x"}); !errors.Is(err, ErrAway) {
		t.Errorf("and gives back: %v", err)
	}

	says(200, `{"access_token":"x","expires_in":60}`)
	if got, err := h.Refresh(ctx, "old"); err != nil || got.Refresh != "old" || time.Until(got.Until) > time.Minute || time.Until(got.Until) < 50*time.Second {
		t.Errorf("made fresh: %+v %v", got, err)
	}
	says(400, `{"error":"invalid_grant"}`)
	if _, err := h.Refresh(ctx, "old"); !errors.Is(err, ErrRefused) {
		t.Errorf("taken back: %v", err)
	}
	says(401, `{"error":"invalid_client"}`)
	if _, err := h.Refresh(ctx, "old"); !errors.Is(err, ErrAway) {
		t.Errorf("an operator's slip takes back what people lent: %v", err)
	}
	for text, want := range map[string]error{`{"error":"authorization_pending"}`: ErrWaits, `{"error":"slow_down"}`: ErrWaits, `{"error":"access_denied"}`: ErrRefused, `{"error":"expired_token"}`: ErrRefused, `{}`: ErrRefused} {
		says(400, text)
		if _, err := h.AskDevice(ctx, "d"); !errors.Is(err, want) {
			t.Errorf("a device that is told %s: %v", text, err)
		}
	}
	says(200, `{"device_code":"d","user_code":"C","verification_uri":"javascript:x","expires_in":60}`)
	if _, err := h.BeginDevice(ctx); !errors.Is(err, ErrRefused) {
		t.Errorf("a code that is typed nowhere: %v", err)
	}
}

// A list is read in parts, at its own host alone, and not for ever.
func TestList(t *testing.T) {
	asked := 0
	link := `</l?2>; rel="next"`
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if asked++; r.Header.Get("Authorization") != "Bearer x" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		w.Header().Set("Link", link)
		_, _ = w.Write([]byte(`[{"clone_url":"https://git.example/a.git"},{"other":1},{"clone_url":7}]`))
	}))
	defer server.Close()
	h := Host{Repositories: server.URL + "/l", Member: "clone_url"}
	if got, err := h.List(t.Context(), "x"); err != nil || len(got) != partsMost || asked != partsMost {
		t.Errorf("%d of %d parts, %v", len(got), asked, err)
	}
	link = `<https://elsewhere.invalid/l>; rel="next"`
	if _, err := h.List(t.Context(), "x"); !errors.Is(err, ErrRefused) {
		t.Errorf("a list that goes on elsewhere: %v", err)
	}
	if _, err := h.List(t.Context(), "y"); !errors.Is(err, ErrRefused) {
		t.Errorf("somebody else: %v", err)
	}
	if got, err := (Host{}).List(t.Context(), "x"); got != nil || err != nil {
		t.Errorf("a host without one: %v %v", got, err)
	}
}
