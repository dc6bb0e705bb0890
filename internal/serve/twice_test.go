package serve_test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"yardbench/client"
	"yardbench/internal/demo"
	"yardbench/wire"
)

// losing stands before a service and loses the first answer, the third and so on
// to whatever is asked with a key: it breaks the connection, or tells of a
// gateway's trouble.
func losing(t *testing.T, address string) (at string, lost *atomic.Int64) {
	t.Helper()
	lost = &atomic.Int64{}
	var answers sync.Map
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		out, err := http.NewRequestWithContext(r.Context(), r.Method, address+r.URL.RequestURI(), r.Body)
		if err != nil {
			t.Error(err)
			return
		}
		out.Header = r.Header.Clone()
		res, err := http.DefaultClient.Do(out)
		if err != nil {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		defer res.Body.Close()
		body, _ := io.ReadAll(res.Body)
		n, _ := answers.LoadOrStore(r.Header.Get("Idempotency-Key"), &atomic.Int64{})
		if r.Method == http.MethodPost && n.(*atomic.Int64).Add(1)%2 == 1 {
			if lost.Add(1)%2 == 1 {
				panic(http.ErrAbortHandler)
			}
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		for _, h := range []string{"Content-Type", "Location"} {
			w.Header().Set(h, res.Header.Get(h))
		}
		w.WriteHeader(res.StatusCode)
		_, _ = w.Write(body)
	}))
	t.Cleanup(proxy.Close)
	return proxy.URL, lost
}

// What is asked again as its answer was lost is done once: every launch makes one
// workspace. TWICE says how many.
func TestAskedAgainAndDoneOnce(t *testing.T) {
	c, _ := simulated(t, map[string]map[string]string{"lights": {file: `{"image": "skerryline/base:1", "remoteUser": "crew"}`}})
	ctx := t.Context()
	launches := 60
	if s := os.Getenv("TWICE"); s != "" {
		launches, _ = strconv.Atoi(s)
	}
	open, err := client.New(c.Address(), "")
	if err != nil {
		t.Fatal(err)
	}
	token := func(name string) string {
		who, err := open.Self.SignIn(ctx, name, demo.Password)
		if err != nil {
			t.Fatal(err)
		}
		return who.Token
	}
	operator, err := client.New(c.Address(), token("astrid"))
	if err != nil {
		t.Fatal(err)
	}
	rules, err := operator.Rules.Show(ctx, 0)
	if err != nil {
		t.Fatal(err)
	}
	text := rules.Document
	for old, now := range map[string]string{"person: {existing: 5, running: 3, cores: 6, memory: 12 GiB}": "person: {existing: 5000}", "team: {running: 12, cores: 20, memory: 40 GiB}": "team: {existing: 5000}"} {
		text = strings.Replace(text, old, now, 1)
	}
	if _, err := operator.Rules.Put(ctx, wire.RulesText{Document: text, Reason: "room"}, rules.Version); err != nil {
		t.Fatal(err)
	}
	at, lost := losing(t, c.Address())
	through, err := client.New(at, token("ingrid"))
	if err != nil {
		t.Fatal(err)
	}
	var made sync.Map
	var wg sync.WaitGroup
	gate := make(chan struct{}, 8)
	for i := range launches {
		wg.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			w, err := through.Workspaces.Launch(ctx, wire.Launch{Repository: "lights", Name: fmt.Sprintf("w%d", i)})
			if i%2 == 0 { // without a name one asked twice would be two
				w, err = through.Workspaces.Launch(ctx, wire.Launch{Repository: "lights"})
			}
			if err != nil {
				t.Errorf("launch %d: %v", i, err)
			}
			if _, twice := made.LoadOrStore(w.ID, true); twice {
				t.Errorf("launch %d is answered with another's workspace", i)
			}
		})
	}
	wg.Wait()
	all, err := c.Workspaces.List(ctx, client.ListQuery{})
	if want := launches + (launches+1)/2; err != nil || len(all) != want || lost.Load() < int64(launches/4) {
		t.Errorf("of %d launches there are %d workspaces, with %d answers lost, %v", want, len(all), lost.Load(), err)
	}
	// What is shown once is shown again to whoever lost it.
	for i := range 20 {
		k, err := through.Self.MakeToken(ctx, wire.NewToken{Name: fmt.Sprintf("token %d", i)})
		if err != nil || k.Value == "" {
			t.Fatalf("token %d: %+v, %v", i, k, err)
		}
		mine, err := client.New(c.Address(), k.Value)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := mine.Self.Me(ctx); err != nil {
			t.Errorf("token %d does not open: %v", i, err)
		}
	}
	tokens, err := c.Self.Tokens(ctx)
	named := 0
	for _, k := range tokens {
		if k.Door == "token" {
			named++
		}
	}
	if err != nil || named != 20 {
		t.Errorf("there are %d tokens, %v", named, err)
	}
}
