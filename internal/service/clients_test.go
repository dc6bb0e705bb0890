package service

import (
	"crypto/sha256"
	"encoding/base64"
	"net/url"
	"strings"
	"testing"
	"time"

	"yardbench/wire"
)

// Codes by which programs are let in: once, in time, for whoever proves that they
// began it, and nobody who guesses.
func TestClients(t *testing.T) {
	s, a, _ := bare(t)
	in, err := s.SignIns.SignIn(t.Context(), wire.SignIn{Name: "ingrid", Password: "long enough"}, "console", Caller{})
	if err != nil {
		t.Fatal(err)
	}
	if a, err = s.SignIns.Authenticate(t.Context(), in.Token); err != nil {
		t.Fatal(err)
	}
	now := time.Now()
	c := s.Clients
	c.now = func() time.Time { return now }
	const verifier = "a-verifier-that-is-long-enough-to-be-one-by-the-rules"
	sum := sha256.Sum256([]byte(verifier))
	challenge := base64.RawURLEncoding.EncodeToString(sum[:])
	redeem := func(form ...string) string {
		t.Helper()
		v := url.Values{"client_id": {wire.OAuthClient}}
		for i := 0; i < len(form); i += 2 {
			v.Set(form[i], form[i+1])
		}
		got, err := c.Redeem(t.Context(), v, Caller{Place: "192.0.2.7", Agent: "yardbench"})
		if err != nil {
			t.Fatal(err)
		}
		if got.AccessToken != "" {
			if who, err := s.SignIns.Authenticate(t.Context(), got.AccessToken); err != nil || who.Name != "ingrid" {
				t.Errorf("it is in as %s, %v", who.Name, err)
			}
			return "in"
		}
		return got.Error
	}
	code := func() string {
		t.Helper()
		made, err := c.Code(t.Context(), a, wire.NewCode{Challenge: challenge, Redirect: "http://127.0.0.1:4311/", State: "s"})
		if err != nil {
			t.Fatal(err)
		}
		u, _ := url.Parse(made.Location)
		return u.Query().Get("code")
	}
	const back = "http://127.0.0.1:4311/"
	one := code()
	for _, x := range []struct{ form, want string }{
		{"grant_type=password", "unsupported_grant_type"},
		{"grant_type=authorization_code&code=guess&code_verifier=" + verifier + "&redirect_uri=" + back, "invalid_grant"},
		{"grant_type=authorization_code&code=" + one + "&code_verifier=" + verifier + "&redirect_uri=" + back, "in"},
		{"grant_type=authorization_code&code=" + one + "&code_verifier=" + verifier + "&redirect_uri=" + back, "invalid_grant"}, // used
		{"grant_type=authorization_code&code=" + code() + "&code_verifier=other&redirect_uri=" + back, "invalid_grant"},
		{"grant_type=authorization_code&code=" + code() + "&code_verifier=" + verifier + "&redirect_uri=http://127.0.0.1:1/", "invalid_grant"},
		{"client_id=other&grant_type=authorization_code", "invalid_client"},
		{"grant_type=urn:ietf:params:oauth:grant-type:device_code&device_code=guess", "expired_token"},
	} {
		v, _ := url.ParseQuery(x.form)
		var form []string
		for k := range v {
			form = append(form, k, v.Get(k))
		}
		if got := redeem(form...); got != x.want {
			t.Errorf("%s is answered %s, not %s", x.form, got, x.want)
		}
	}
	late := code()
	now = now.Add(2 * time.Minute)
	if got := redeem("grant_type", CodeGrant, "code", late, "code_verifier", verifier, "redirect_uri", back); got != "invalid_grant" {
		t.Errorf("a code that is too old: %s", got)
	}
	for _, redirect := range []string{"http://gull.example/", "https://127.0.0.1:4/", "http://127.0.0.1/", "http://127.0.0.1:4/x", "http://127.0.0.1:4/?a=b", "http://u@127.0.0.1:4/", "http://192.0.2.1:4/", "http://localhost:4/", ""} {
		if _, err := c.Code(t.Context(), a, wire.NewCode{Challenge: challenge, Redirect: redirect}); status(err) != 422 {
			t.Errorf("%q is led to: %v", redirect, err)
		}
	}

	d, err := c.BeginDevice(t.Context(), Caller{Place: "192.0.2.7", Agent: "yardbench on quay\x1b[2J"})
	if err != nil || len(d.UserCode) != 9 {
		t.Fatal(d, err)
	}
	ask := func() string { return redeem("grant_type", DeviceGrant, "device_code", d.DeviceCode) }
	if got := ask() + " " + ask(); got != "authorization_pending slow_down" {
		t.Errorf("before somebody answers: %s", got)
	}
	if v, err := c.Device(t.Context(), a, strings.ToLower(d.UserCode), Caller{Place: "192.0.2.9"}); err != nil || v.Here || v.Client != "yardbench on quay[2J" {
		t.Errorf("it shows %+v, %v", v, err)
	}
	if err := c.AnswerDevice(t.Context(), a, d.UserCode, Caller{}, true); err != nil {
		t.Fatal(err)
	}
	if err := c.AnswerDevice(t.Context(), a, d.UserCode, Caller{}, true); status(err) != 404 {
		t.Errorf("a code that is answered twice: %v", err)
	}
	if got := ask() + " " + ask(); got != "in expired_token" {
		t.Errorf("after it: %s", got)
	}
	for range 30 {
		if _, err = c.Device(t.Context(), a, "BBBB-BBBB", Caller{Place: "192.0.2.9"}); status(err) == 429 {
			break
		}
	}
	if status(err) != 429 {
		t.Errorf("whoever guesses goes on: %v", err)
	}
	// A token of a program's lets no other in.
	a.Token = true
	if _, err := c.Code(t.Context(), a, wire.NewCode{Challenge: challenge, Redirect: back}); status(err) != 403 {
		t.Errorf("a program lets another in: %v", err)
	}
}
