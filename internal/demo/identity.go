package demo

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"yardbench/internal/core/policy"
)

// IdentityClient is a service that people sign in to by the identity provider.
type IdentityClient struct {
	ID, Secret string
	Back       string // where they are sent back to
	SignedOut  string // where the service is told of sign-outs; "" is nowhere
}

// IdentityProvider is a small stand-in for a house's identity provider: OpenID Connect
// with the code flow, PKCE, rotating keys, and both ways to sign out. It knows Skerry
// Line's people by the demo's password.
type IdentityProvider struct {
	Issuer string
	Client IdentityClient
	// Bend, if set, changes what a token says before it is signed. Sign, if it gives
	// something, signs in place of the provider. They make a provider that is not to
	// be trusted.
	Bend func(claims map[string]any)
	Sign func(claims map[string]any) string
	// Groups, if set, are somebody's groups in place of the usual.
	Groups func(name string) []string

	mu       sync.Mutex
	keys     []jose.JSONWebKey // the newest first
	codes    map[string]code
	sessions map[string]string // of browsers, the name by the session
}

type code struct {
	nonce, challenge, back, name, session string
	until                                 time.Time
}

// ProviderName is what the identity provider is called at a service.
const ProviderName = "skerry-id"

// ClientOf is a service as the identity provider knows it.
func ClientOf(service string) IdentityClient {
	at := service + "/api/v1/sign-in/" + ProviderName
	return IdentityClient{ID: "yard-bench", Secret: "harbour-light", Back: at + "/return", SignedOut: at + "/signed-out"}
}

// GroupsOf are the groups of one of Skerry Line's people: their team in lower case,
// and what they are.
func GroupsOf(p Person) (groups []string) {
	if p.Team != "" {
		groups = append(groups, strings.ToLower(p.Team))
	}
	return append(groups, map[policy.Role]string{policy.Operator: "yard-crew", policy.Lead: "leads", policy.Developer: "developers", policy.Auditor: "audit"}[p.Role])
}

// Rotate has it sign with a new key; the old one is still published once.
func (i *IdentityProvider) Rotate() error {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return err
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	i.keys = append([]jose.JSONWebKey{{Key: key, KeyID: unknown(), Algorithm: string(jose.RS256), Use: "sig"}}, i.keys[:min(1, len(i.keys))]...)
	return nil
}

func unknown() string {
	b := make([]byte, 16)
	_, _ = rand.Read(b) // it never fails
	return hex.EncodeToString(b)
}

// RunIdentityProvider runs it until ctx ends.
func RunIdentityProvider(ctx context.Context, listen string, c IdentityClient, ready func(issuer string)) error {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return fmt.Errorf("cannot listen on %s: %w; stop what uses it, or give another --listen", listen, err)
	}
	i := &IdentityProvider{Issuer: "http://" + l.Addr().String(), Client: c}
	if err := i.Rotate(); err != nil {
		return err
	}
	server := &http.Server{Handler: i, ReadHeaderTimeout: 10 * time.Second}
	stop := context.AfterFunc(ctx, func() { server.Close() })
	defer stop()
	ready(i.Issuer)
	if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// ServeHTTP answers as the provider.
func (i *IdentityProvider) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch r.URL.Path {
	case "/.well-known/openid-configuration":
		answer(w, http.StatusOK, map[string]any{"issuer": i.Issuer, "authorization_endpoint": i.Issuer + "/sign-in", "token_endpoint": i.Issuer + "/token", "jwks_uri": i.Issuer + "/keys", "end_session_endpoint": i.Issuer + "/over",
			"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"}, "id_token_signing_alg_values_supported": []string{"RS256"}, "code_challenge_methods_supported": []string{"S256"},
			"authorization_response_iss_parameter_supported": true, "backchannel_logout_supported": true, "backchannel_logout_session_supported": true})
	case "/keys":
		i.mu.Lock()
		defer i.mu.Unlock()
		set := jose.JSONWebKeySet{}
		for _, k := range i.keys {
			set.Keys = append(set.Keys, k.Public())
		}
		answer(w, http.StatusOK, set)
	case "/sign-in":
		i.signIn(w, r)
	case "/token":
		i.token(w, r)
	case "/over":
		i.over(w, r)
	default:
		http.NotFound(w, r)
	}
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // whoever asked may be gone
}

var signInPage = template.Must(template.New("").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><title>Skerry Line: who are you?</title>
<style>body{font:16px/1.5 "DejaVu Sans",sans-serif;margin:15vh auto;max-width:24em;padding:0 1em;background:#f3f1ea;color:#1d2a30}label{display:block;margin:.8em 0 .2em}input,button{font:inherit;padding:.4em .6em;width:100%;box-sizing:border-box}button{margin-top:1.2em}</style>
<h1>Skerry Line</h1><p>Sign in to go on to Yard Bench. This stands in for the house's identity provider.</p>{{with .Problem}}<p role="alert">{{.}}</p>{{end}}
<form method="post"><label for="who">Name</label><input id="who" name="who" autocomplete="username" autofocus><label for="secret">Password</label><input id="secret" name="secret" type="password" autocomplete="current-password"><button>Sign in</button></form></html>`))

const browserCookie = "skerry_id"

// signIn asks who somebody is, and sends them back.
func (i *IdentityProvider) signIn(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	if q.Get("client_id") != i.Client.ID || q.Get("redirect_uri") != i.Client.Back {
		http.Error(w, "this is nobody that people sign in to from here", http.StatusBadRequest)
		return
	}
	back, err := url.Parse(i.Client.Back)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	give := func(v url.Values) {
		v.Set("state", q.Get("state"))
		v.Set("iss", i.Issuer)
		back.RawQuery = v.Encode()
		http.Redirect(w, r, back.String(), http.StatusSeeOther)
	}
	if q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" || !slices.Contains(strings.Fields(q.Get("scope")), "openid") {
		give(url.Values{"error": {"invalid_request"}})
		return
	}
	name, session := "", ""
	if c, err := r.Cookie(browserCookie); err == nil && q.Get("prompt") != "login" && r.Method == http.MethodGet {
		i.mu.Lock()
		name, session = i.sessions[c.Value], c.Value
		i.mu.Unlock()
	}
	problem := ""
	if r.Method == http.MethodPost {
		who := r.PostFormValue("who")
		known := slices.ContainsFunc(People, func(p Person) bool { return p.Name == who })
		if !known || subtle.ConstantTimeCompare([]byte(r.PostFormValue("secret")), []byte(Password)) != 1 {
			problem = "This name and password do not go together."
		} else {
			name, session = who, unknown()
			http.SetCookie(w, &http.Cookie{Name: browserCookie, Value: session, Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode})
		}
	}
	if name == "" {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_ = signInPage.Execute(w, map[string]string{"Problem": problem}) // whoever asked may be gone
		return
	}
	i.mu.Lock()
	if i.codes == nil {
		i.codes, i.sessions = map[string]code{}, map[string]string{}
	}
	one := unknown()
	i.codes[one] = code{q.Get("nonce"), q.Get("code_challenge"), i.Client.Back, name, session, time.Now().Add(time.Minute)}
	i.sessions[session] = name
	i.mu.Unlock()
	give(url.Values{"code": {one}})
}

// token redeems a code, once.
func (i *IdentityProvider) token(w http.ResponseWriter, r *http.Request) {
	id, secret, basic := r.BasicAuth()
	if !basic {
		id, secret = r.PostFormValue("client_id"), r.PostFormValue("client_secret")
	}
	if id != i.Client.ID || subtle.ConstantTimeCompare([]byte(secret), []byte(i.Client.Secret)) != 1 {
		answer(w, http.StatusUnauthorized, map[string]string{"error": "invalid_client"})
		return
	}
	i.mu.Lock()
	c, ok := i.codes[r.PostFormValue("code")]
	delete(i.codes, r.PostFormValue("code"))
	i.mu.Unlock()
	sum := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
	if !ok || time.Now().After(c.until) || c.back != r.PostFormValue("redirect_uri") || base64.RawURLEncoding.EncodeToString(sum[:]) != c.challenge {
		answer(w, http.StatusBadRequest, map[string]string{"error": "invalid_grant"})
		return
	}
	p := People[slices.IndexFunc(People, func(p Person) bool { return p.Name == c.name })]
	groups := GroupsOf(p)
	if i.Groups != nil {
		groups = i.Groups(c.name)
	}
	claims := map[string]any{"iss": i.Issuer, "aud": i.Client.ID, "sub": "skerry-" + p.Name, "sid": c.session, "nonce": c.nonce, "iat": time.Now().Unix(), "exp": time.Now().Add(5 * time.Minute).Unix(),
		"preferred_username": p.Name, "name": p.FullName, "email": p.Name + "@skerryline.example", "email_verified": true, "groups": groups}
	signed, err := i.signed(claims)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	answer(w, http.StatusOK, map[string]any{"access_token": unknown(), "token_type": "Bearer", "expires_in": 300, "id_token": signed})
}

func (i *IdentityProvider) signed(claims map[string]any) (string, error) {
	if i.Bend != nil {
		i.Bend(claims)
	}
	if i.Sign != nil {
		if s := i.Sign(claims); s != "" {
			return s, nil
		}
	}
	i.mu.Lock()
	key := i.keys[0]
	i.mu.Unlock()
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: key}, (&jose.SignerOptions{}).WithType("JWT"))
	if err != nil {
		return "", err
	}
	return jwt.Signed(signer).Claims(claims).Serialize()
}

// over signs somebody out, and tells the service.
func (i *IdentityProvider) over(w http.ResponseWriter, r *http.Request) {
	if c, err := r.Cookie(browserCookie); err == nil {
		if err := i.SignOut(r.Context(), c.Value); err != nil {
			slog.Warn("the service was not told of a sign-out", "error", err)
		}
		http.SetCookie(w, &http.Cookie{Name: browserCookie, Path: "/", MaxAge: -1})
	}
	if back := r.FormValue("post_logout_redirect_uri"); strings.HasPrefix(i.Client.Back, back) && back != "" { // of the same service
		http.Redirect(w, r, back, http.StatusSeeOther)
		return
	}
	fmt.Fprintln(w, "You are signed out.")
}

// SignOut ends a browser's session, and tells the service by a back channel. Without a
// session it ends all of a person's: give their subject.
func (i *IdentityProvider) SignOut(ctx context.Context, session string) error {
	claims := map[string]any{"iss": i.Issuer, "aud": i.Client.ID, "iat": time.Now().Unix(), "jti": unknown(), "events": map[string]any{"http://schemas.openid.net/event/backchannel-logout": map[string]any{}}}
	if subject, ok := strings.CutPrefix(session, "subject:"); ok {
		claims["sub"] = subject
	} else {
		claims["sid"] = session
		i.mu.Lock()
		delete(i.sessions, session)
		i.mu.Unlock()
	}
	if i.Client.SignedOut == "" {
		return nil
	}
	signed, err := i.signed(claims)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, i.Client.SignedOut, bytes.NewBufferString(url.Values{"logout_token": {signed}}.Encode()))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK && res.StatusCode != http.StatusNoContent {
		return fmt.Errorf("the service answered %s", res.Status)
	}
	return nil
}

// Sessions are those that are open, the name by the session.
func (i *IdentityProvider) Sessions() map[string]string {
	i.mu.Lock()
	defer i.mu.Unlock()
	out := map[string]string{}
	for k, v := range i.sessions {
		out[k] = v
	}
	return out
}
