// Package identity speaks OpenID Connect with identity providers: where somebody is
// sent to sign in, who comes back, and who has signed out over there. It touches the
// network, at the addresses of providers alone, and nothing of the service's.
//
// By OpenID Connect Core 1.0 (code flow), with PKCE (RFC 7636), the issuer in answers
// (RFC 9207), and OpenID Connect Back-Channel Logout 1.0.
package identity

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"yardbench/internal/reach"
)

// Provider is one as it was registered.
type Provider struct {
	Issuer, Client, Secret string
	// Callback is where it sends people back to.
	Callback string
	// Scopes are asked for beside openid, profile and email.
	Scopes []string
	// GroupsClaim names the claim that has somebody's groups.
	GroupsClaim string
}

// Arrival is a sign-in at a provider that is under way: what whoever comes back must
// bring, and what its code is redeemed with.
type Arrival struct {
	State, Nonce, Verifier string
}

// Who is who a provider says has signed in. What it holds is not checked for its form.
type Who struct {
	Subject, Session string
	Name, FullName   string
	Email            string
	Verified         bool // the provider has verified the address
	Groups           []string
}

// The ways in which a sign-in by a provider fails.
var (
	ErrAway      = errors.New("the identity provider does not answer as one")
	ErrRefused   = errors.New("the identity provider let nobody in")
	ErrUntrusted = errors.New("what the identity provider says is not to be trusted")
)

const (
	answerMost = 1 << 20
	askMost    = 15 * time.Second
	knownFor   = 15 * time.Minute
	awayFor    = 5 * time.Second
	groupsMost = 2000
)

// algorithms are those whose signatures count: all of them by a key that is the
// provider's alone. None and HMAC are not among them.
var algorithms = []string{oidc.RS256, oidc.RS384, oidc.RS512, oidc.PS256, oidc.PS384, oidc.PS512, oidc.ES256, oidc.ES384, oidc.ES512, oidc.EdDSA}

// Room knows what providers say of themselves, for a while.
type Room struct {
	Now   func() time.Time
	mu    sync.Mutex
	known map[string]known
}

type known struct {
	*oidc.Provider
	over      string // where one signs out there; "" where it has no such place
	names     bool   // it names itself in its answers, by RFC 9207
	until     time.Time
	algorithm []string
	wrong     error // it did not answer: it is left alone for a moment
}

var asking = reach.Asking(askMost, answerMost)

// discover asks a provider what it says of itself, or remembers it. One that does not
// answer is not asked again at once, however many want to sign in.
func (r *Room) discover(ctx context.Context, issuer string) (known, error) {
	r.mu.Lock()
	k, ok := r.known[issuer]
	r.mu.Unlock()
	if ok && r.Now().Before(k.until) {
		return k, k.wrong
	}
	k, err := r.ask(ctx, issuer)
	if k.until = r.Now().Add(knownFor); err != nil {
		k = known{until: r.Now().Add(awayFor), wrong: err}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.known == nil || len(r.known) > 100 {
		r.known = map[string]known{}
	}
	r.known[issuer] = k
	return k, err
}

// ask asks a provider what it says of itself.
func (r *Room) ask(ctx context.Context, issuer string) (k known, err error) {
	// The keys are asked for later, with this context.
	p, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(ctx), asking), issuer)
	if err != nil {
		return k, fmt.Errorf("%w: %w", ErrAway, err)
	}
	var said struct {
		Over       string   `json:"end_session_endpoint"`
		Names      bool     `json:"authorization_response_iss_parameter_supported"`
		Algorithms []string `json:"id_token_signing_alg_values_supported"`
	}
	if err := p.Claims(&said); err != nil {
		return k, fmt.Errorf("%w: %w", ErrAway, err)
	}
	if u, err := url.Parse(p.Endpoint().AuthURL); err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
		return k, fmt.Errorf("%w: it names no address to sign in at", ErrAway)
	}
	k = known{Provider: p, over: said.Over, names: said.Names}
	for _, a := range said.Algorithms {
		if slices.Contains(algorithms, a) {
			k.algorithm = append(k.algorithm, a)
		}
	}
	if len(k.algorithm) == 0 {
		k.algorithm = []string{oidc.RS256} // what every provider has, by the specification
	}
	return k, nil
}

func (p Provider) config(k known) oauth2.Config {
	return oauth2.Config{ClientID: p.Client, ClientSecret: p.Secret, Endpoint: k.Endpoint(), RedirectURL: p.Callback, Scopes: append([]string{oidc.ScopeOpenID, "profile", "email"}, p.Scopes...)}
}

// Try asks a provider what it says of itself, and tells what is wrong with it.
func (r *Room) Try(ctx context.Context, p Provider) error {
	ctx, cancel := context.WithTimeout(ctx, askMost)
	defer cancel()
	r.mu.Lock()
	delete(r.known, p.Issuer)
	r.mu.Unlock()
	_, err := r.discover(ctx, p.Issuer)
	return err
}

// Begin begins a sign-in: where somebody is sent. again has them sign in there anew,
// whatever they are signed in with.
func (r *Room) Begin(ctx context.Context, p Provider, again bool) (address string, a Arrival, err error) {
	k, err := r.discover(ctx, p.Issuer)
	if err != nil {
		return "", a, err
	}
	a = Arrival{State: oauth2.GenerateVerifier(), Nonce: oauth2.GenerateVerifier(), Verifier: oauth2.GenerateVerifier()}
	options := []oauth2.AuthCodeOption{oidc.Nonce(a.Nonce), oauth2.S256ChallengeOption(a.Verifier)}
	if again {
		options = append(options, oauth2.SetAuthURLParam("prompt", "login"), oauth2.SetAuthURLParam("max_age", "0"))
	}
	c := p.config(k)
	return c.AuthCodeURL(a.State, options...), a, nil
}

// Return takes what somebody came back with, and says who they are.
func (r *Room) Return(ctx context.Context, p Provider, a Arrival, q url.Values) (Who, error) {
	ctx, cancel := context.WithTimeout(oidc.ClientContext(ctx, asking), askMost)
	defer cancel()
	k, err := r.discover(ctx, p.Issuer)
	if err != nil {
		return Who{}, err
	}
	switch iss := q.Get("iss"); {
	case a.State == "" || subtle.ConstantTimeCompare([]byte(q.Get("state")), []byte(a.State)) != 1:
		return Who{}, fmt.Errorf("%w: it answers another question", ErrUntrusted)
	case iss != "" && iss != p.Issuer, iss == "" && k.names:
		return Who{}, fmt.Errorf("%w: another provider answers", ErrUntrusted)
	case q.Get("error") != "":
		return Who{}, fmt.Errorf("%w: %.200q", ErrRefused, q.Get("error")+" "+q.Get("error_description"))
	}
	c := p.config(k)
	got, err := c.Exchange(ctx, q.Get("code"), oauth2.VerifierOption(a.Verifier))
	if refused, ok := errors.AsType[*oauth2.RetrieveError](err); ok && refused.Response.StatusCode < 500 {
		return Who{}, fmt.Errorf("%w: %.200q", ErrRefused, refused.ErrorCode+" "+refused.ErrorDescription)
	}
	if err != nil {
		return Who{}, fmt.Errorf("%w: %w", ErrAway, err)
	}
	raw, _ := got.Extra("id_token").(string)
	token, err := k.Verifier(&oidc.Config{ClientID: p.Client, SupportedSigningAlgs: k.algorithm, Now: r.Now}).Verify(ctx, raw)
	if err != nil {
		return Who{}, fmt.Errorf("%w: %w", ErrUntrusted, err)
	}
	var said map[string]any
	if err := token.Claims(&said); err != nil {
		return Who{}, fmt.Errorf("%w: %w", ErrUntrusted, err)
	}
	switch azp, _ := said["azp"].(string); {
	case subtle.ConstantTimeCompare([]byte(token.Nonce), []byte(a.Nonce)) != 1:
		return Who{}, fmt.Errorf("%w: it is of another sign-in", ErrUntrusted)
	case len(token.Audience) > 1 && azp == "", azp != "" && azp != p.Client:
		return Who{}, fmt.Errorf("%w: it is for another", ErrUntrusted)
	case token.AccessTokenHash != "" && token.VerifyAccessToken(got.AccessToken) != nil:
		return Who{}, fmt.Errorf("%w: its parts do not belong together", ErrUntrusted)
	case token.Subject == "" || len(token.Subject) > 255: // by OpenID Connect Core 1.0, section 2
		return Who{}, fmt.Errorf("%w: it names nobody", ErrUntrusted)
	}
	who := Who{Subject: token.Subject, Session: text(said["sid"]), Name: text(said["preferred_username"]), FullName: text(said["name"]), Email: text(said["email"])}
	who.Verified, _ = said["email_verified"].(bool)
	if p.GroupsClaim != "" {
		who.Groups = groups(said[p.GroupsClaim])
	}
	return who, nil
}

func text(v any) string {
	s, _ := v.(string)
	return s[:min(len(s), 400)]
}

// groups reads a claim of groups: a list of texts, or one text.
func groups(v any) (out []string) {
	switch v := v.(type) {
	case string:
		return []string{v}
	case []any:
		for _, g := range v[:min(len(v), groupsMost)] {
			if s, ok := g.(string); ok {
				out = append(out, s)
			}
		}
	}
	return out
}

// event is what says in a logout token that it is one.
const event = "http://schemas.openid.net/event/backchannel-logout"

// SignedOut reads a logout token: who has signed out at the provider, or in which
// session. The token's own name is for whoever keeps that it is taken once.
func (r *Room) SignedOut(ctx context.Context, p Provider, raw string) (subject, session, name string, err error) {
	ctx, cancel := context.WithTimeout(oidc.ClientContext(ctx, asking), askMost)
	defer cancel()
	k, err := r.discover(ctx, p.Issuer)
	if err != nil {
		return "", "", "", err
	}
	// It need not have an end; it is of now, or it is not taken.
	token, err := k.Verifier(&oidc.Config{ClientID: p.Client, SupportedSigningAlgs: k.algorithm, SkipExpiryCheck: true, Now: r.Now}).Verify(ctx, raw)
	if err != nil {
		return "", "", "", fmt.Errorf("%w: %w", ErrUntrusted, err)
	}
	var said struct {
		Events  map[string]any `json:"events"`
		Session string         `json:"sid"`
		Name    string         `json:"jti"`
		Nonce   *string        `json:"nonce"`
	}
	if err := token.Claims(&said); err != nil {
		return "", "", "", fmt.Errorf("%w: %w", ErrUntrusted, err)
	}
	age := r.Now().Sub(token.IssuedAt)
	if _, ok := said.Events[event]; !ok || said.Nonce != nil || said.Name == "" || token.Subject == "" && said.Session == "" || age > logoutAge || age < -time.Minute {
		return "", "", "", fmt.Errorf("%w: it is no logout token of now", ErrUntrusted)
	}
	return token.Subject, said.Session, said.Name, nil
}

// logoutAge is how old a logout token may be.
const logoutAge = 2 * time.Minute

// Over is where somebody signs out at the provider, to come back to an address of
// ours; "" where it has no such place (OpenID Connect RP-Initiated Logout 1.0).
func (r *Room) Over(ctx context.Context, p Provider, back string) string {
	k, err := r.discover(ctx, p.Issuer)
	if err != nil || k.over == "" {
		return ""
	}
	u, err := url.Parse(k.over)
	if err != nil || u.Scheme != "https" && u.Scheme != "http" {
		return ""
	}
	q := u.Query()
	q.Set("client_id", p.Client)
	q.Set("post_logout_redirect_uri", back)
	u.RawQuery = q.Encode()
	return u.String()
}
