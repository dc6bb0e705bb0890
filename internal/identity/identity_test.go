package identity_test

import (
	"crypto/rand"
	"crypto/rsa"
	"errors"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"yardbench/internal/demo"
	"yardbench/internal/identity"
)

const back = "http://bench.skerryline.example/api/v1/sign-in/skerry-id/return"

// provider runs the stand-in, and gives a browser that is not led away from it.
func provider(t *testing.T) (*demo.IdentityProvider, identity.Provider, *http.Client) {
	t.Helper()
	i := &demo.IdentityProvider{Client: demo.IdentityClient{ID: "yard-bench", Secret: "harbour-light", Back: back}}
	if err := i.Rotate(); err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(i)
	t.Cleanup(server.Close)
	i.Issuer = server.URL
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	return i, identity.Provider{Issuer: i.Issuer, Client: "yard-bench", Secret: "harbour-light", Callback: back, GroupsClaim: "groups"},
		&http.Client{Jar: jar, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// signIn signs somebody in at the provider, and gives what they come back with.
func signIn(t *testing.T, browser *http.Client, address, name string) url.Values {
	t.Helper()
	res, err := browser.PostForm(address, url.Values{"who": {name}, "secret": {demo.Password}})
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	u, err := res.Location()
	if err != nil {
		t.Fatal(err)
	}
	return u.Query()
}

func TestSignIn(t *testing.T) {
	t.Parallel()
	i, p, browser := provider(t)
	room := &identity.Room{Now: time.Now}
	if err := room.Try(t.Context(), p); err != nil {
		t.Fatal(err)
	}
	address, a, err := room.Begin(t.Context(), p, false)
	if err != nil {
		t.Fatal(err)
	}
	q := signIn(t, browser, address, "runa")
	who, err := room.Return(t.Context(), p, a, q)
	if err != nil || who.Subject != "skerry-runa" || who.Session == "" || who.Name != "runa" || who.FullName != "Runa Vik" || !who.Verified || !slices.Equal(who.Groups, []string{"timetable", "leads"}) {
		t.Errorf("she is %+v, %v", who, err)
	}
	if _, err := room.Return(t.Context(), p, a, q); !errors.Is(err, identity.ErrRefused) {
		t.Errorf("a code that is brought twice: %v", err)
	}
	// Keys change while a service runs.
	for range 2 {
		if err := i.Rotate(); err != nil {
			t.Fatal(err)
		}
	}
	if address, a, err = room.Begin(t.Context(), p, true); err != nil || !strings.Contains(address, "prompt=login") {
		t.Fatal(address, err)
	}
	if who, err = room.Return(t.Context(), p, a, signIn(t, browser, address, "mats")); err != nil || who.Name != "mats" {
		t.Errorf("with another key: %+v, %v", who, err)
	}
	if over := room.Over(t.Context(), p, "http://bench.skerryline.example/"); !strings.HasPrefix(over, i.Issuer+"/over?client_id=yard-bench&") {
		t.Errorf("one signs out at %s", over)
	}
}

// A provider that lies, one that is another, and one that is away.
func TestHostileAnswers(t *testing.T) {
	t.Parallel()
	other, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	by := func(alg jose.SignatureAlgorithm, key any) func(map[string]any) string {
		return func(claims map[string]any) string {
			signer, err := jose.NewSigner(jose.SigningKey{Algorithm: alg, Key: key}, nil)
			if err != nil {
				t.Error(err)
				return "x"
			}
			s, err := jwt.Signed(signer).Claims(claims).Serialize()
			if err != nil {
				t.Error(err)
			}
			return s
		}
	}
	set := func(k string, v any) func(map[string]any) { return func(c map[string]any) { c[k] = v } }
	for _, c := range []struct {
		name string
		bend func(map[string]any)
		sign func(map[string]any) string
		come func(url.Values)
		want error
	}{
		{name: "as it should be"},
		{name: "wrong nonce", bend: set("nonce", "x"), want: identity.ErrUntrusted},
		{name: "no nonce", bend: func(c map[string]any) { delete(c, "nonce") }, want: identity.ErrUntrusted},
		{name: "wrong issuer", bend: set("iss", "http://id.gull.example"), want: identity.ErrUntrusted},
		{name: "wrong audience", bend: set("aud", "fare-desk"), want: identity.ErrUntrusted},
		{name: "for two, and not said whom", bend: set("aud", []string{"yard-bench", "fare-desk"}), want: identity.ErrUntrusted},
		{name: "for another of two", bend: func(c map[string]any) { c["aud"], c["azp"] = []string{"yard-bench", "fare-desk"}, "fare-desk" }, want: identity.ErrUntrusted},
		{name: "expired", bend: set("exp", time.Now().Add(-time.Hour).Unix()), want: identity.ErrUntrusted},
		{name: "nobody", bend: set("sub", ""), want: identity.ErrUntrusted},
		{name: "parts of two answers", bend: set("at_hash", "AAAAAAAAAAAAAAAAAAAAAA"), want: identity.ErrUntrusted},
		{name: "unknown key", sign: by(jose.RS256, other), want: identity.ErrUntrusted},
		{name: "the client's own secret as a key", sign: by(jose.HS256, []byte(strings.Repeat("harbour-light", 4))), want: identity.ErrUntrusted},
		{name: "algorithm none", sign: func(map[string]any) string { return "eyJhbGciOiJub25lIn0.eyJzdWIiOiJza2VycnktcnVuYSJ9." }, want: identity.ErrUntrusted},
		{name: "no token", sign: func(map[string]any) string { return "harbour" }, want: identity.ErrUntrusted},
		{name: "another state", come: func(q url.Values) { q.Set("state", "x") }, want: identity.ErrUntrusted},
		{name: "another provider's answer", come: func(q url.Values) { q.Set("iss", "http://id.gull.example") }, want: identity.ErrUntrusted},
		{name: "an answer of nobody's", come: func(q url.Values) { q.Del("iss") }, want: identity.ErrUntrusted},
		{name: "refused", come: func(q url.Values) { q.Set("error", "access_denied") }, want: identity.ErrRefused},
		{name: "a guessed code", come: func(q url.Values) { q.Set("code", "1234") }, want: identity.ErrRefused},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			i, p, browser := provider(t)
			i.Bend, i.Sign = c.bend, c.sign
			room := &identity.Room{Now: time.Now}
			address, a, err := room.Begin(t.Context(), p, false)
			if err != nil {
				t.Fatal(err)
			}
			q := signIn(t, browser, address, "runa")
			if c.come != nil {
				c.come(q)
			}
			if who, err := room.Return(t.Context(), p, a, q); !errors.Is(err, c.want) || (err == nil) != (who.Name == "runa") {
				t.Errorf("it gives %+v, %v", who, err)
			}
		})
	}
	_, p, _ := provider(t)
	p.Issuer += "/elsewhere"
	if err := (&identity.Room{Now: time.Now}).Try(t.Context(), p); !errors.Is(err, identity.ErrAway) {
		t.Errorf("where there is none: %v", err)
	}
}

func TestSignedOut(t *testing.T) {
	t.Parallel()
	i, p, _ := provider(t)
	var said string
	told := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { said = r.PostFormValue("logout_token") }))
	t.Cleanup(told.Close)
	i.Client.SignedOut = told.URL
	room := &identity.Room{Now: time.Now}
	for name, c := range map[string]struct {
		of   string
		bend func(map[string]any)
		want string
	}{
		"a session":        {of: "s1", want: " s1"},
		"a person":         {of: "subject:skerry-runa", want: "skerry-runa "},
		"of long ago":      {of: "s1", bend: func(c map[string]any) { c["iat"] = time.Now().Add(-time.Hour).Unix() }},
		"of another kind":  {of: "s1", bend: func(c map[string]any) { c["events"] = map[string]any{} }},
		"a sign-in's":      {of: "s1", bend: func(c map[string]any) { c["nonce"] = "x" }},
		"of nobody":        {of: "s1", bend: func(c map[string]any) { delete(c, "sid") }},
		"without a name":   {of: "s1", bend: func(c map[string]any) { delete(c, "jti") }},
		"for another":      {of: "s1", bend: func(c map[string]any) { c["aud"] = "fare-desk" }},
		"by another":       {of: "s1", bend: func(c map[string]any) { c["iss"] = "http://id.gull.example" }},
		"of times to come": {of: "s1", bend: func(c map[string]any) { c["iat"] = time.Now().Add(time.Hour).Unix() }},
	} {
		i.Bend = c.bend
		if err := i.SignOut(t.Context(), c.of); err != nil {
			t.Fatal(err)
		}
		subject, session, jti, err := room.SignedOut(t.Context(), p, said)
		if got := subject + " " + session; (err == nil) != (c.want != "") || err == nil && (got != c.want || jti == "") || err != nil && !errors.Is(err, identity.ErrUntrusted) {
			t.Errorf("%s is read as %q, %v", name, got, err)
		}
	}
}
