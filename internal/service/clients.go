package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/house"
	"yardbench/internal/password"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Clients are the use cases of programs of a person's own that sign in as them by the
// console: the command line, by a browser on its machine (RFC 8252, with PKCE) or by a
// code that somebody types into one elsewhere (RFC 8628). What is asked for and not
// answered is kept in memory alone: after a new start it is asked for again.
type Clients struct {
	address string
	house   *house.Book
	store   *store.Store
	now     func() time.Time

	guesses password.Attempts // of codes of devices
	mu      sync.Mutex
	devices map[string]*device // by the hash of what the program holds
	codes   map[string]granted // by the hash of the code
}

// device is a program without a browser that asks to be let in.
type device struct {
	user  string // what somebody types
	from  Caller
	until time.Time
	asked time.Time // when it asked last
	as    *Actor    // who lets it in; nil is nobody yet
	no    bool
}

// granted is a code for a program that waits on its machine.
type granted struct {
	as        Actor
	challenge string
	redirect  string
	until     time.Time
}

const (
	clientMost     = 1000 // of each, at once
	deviceLife     = 10 * time.Minute
	deviceInterval = 2 * time.Second
	codeLife       = time.Minute
	// userLetters make no words and are not mistaken for others (RFC 8628, 6.1).
	userLetters = "BCDFGHJKLMNPQRSTVWXZ"
)

func hashed(text string) string {
	sum := sha256.Sum256([]byte(text))
	return string(sum[:])
}

// room forgets what is over, and tells whether one more may be kept.
func (s *Clients) room() bool {
	if s.devices == nil {
		s.devices, s.codes = map[string]*device{}, map[string]granted{}
	}
	now := s.now()
	for k, d := range s.devices {
		if now.After(d.until) {
			delete(s.devices, k)
		}
	}
	for k, c := range s.codes {
		if now.After(c.until) {
			delete(s.codes, k)
		}
	}
	return len(s.devices) < clientMost && len(s.codes) < clientMost
}

// BeginDevice has a program that has no browser wait for somebody to let it in.
func (s *Clients) BeginDevice(_ context.Context, from Caller) (wire.DeviceAuthorization, error) {
	key, _ := newToken("yb_device_")
	d := &device{from: from, until: s.now().Add(deviceLife)}
	for i := range 8 {
		if i == 4 {
			d.user += "-"
		}
		for { // each letter as likely as the others
			var b [1]byte
			_, _ = rand.Read(b[:]) // never fails, by its documentation
			if n := int(b[0]); n < 256/len(userLetters)*len(userLetters) {
				d.user += string(userLetters[n%len(userLetters)])
				break
			}
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	same := 0
	for _, o := range s.devices {
		if o.from.Place == from.Place {
			same++
		}
	}
	if !s.room() || same >= clientMost/10 {
		return wire.DeviceAuthorization{}, tooMany("too many programs wait to be let in", time.Minute)
	}
	s.devices[hashed(key)] = d
	at := s.address + "/device"
	return wire.DeviceAuthorization{DeviceCode: key, UserCode: d.user, VerificationURI: at, Complete: at + "?code=" + d.user, ExpiresIn: int64(deviceLife.Seconds()), Interval: int64(deviceInterval.Seconds())}, nil
}

// typed finds what waits by the code that somebody types, in whatever case and form.
func (s *Clients) typed(a Actor, code string, from Caller) (*device, error) {
	if a.Token || !a.Grant.Whole() {
		return nil, a.beyond()
	}
	found, _, ok := s.guesses.Begin(a.ID, from.Place, s.now())
	if !ok {
		return nil, tooMany("too many codes were wrong", 5*time.Minute)
	}
	plain := strings.Map(func(r rune) rune {
		if strings.ContainsRune(userLetters, r) {
			return r
		}
		return -1
	}, strings.ToUpper(code))
	for _, d := range s.devices {
		if subtle.ConstantTimeCompare([]byte(strings.ReplaceAll(d.user, "-", "")), []byte(plain)) == 1 && s.now().Before(d.until) && d.as == nil && !d.no {
			found()
			return d, nil
		}
	}
	return nil, notFound("program that waits with the code", code, "look at the code again; it can be used for ten minutes, once")
}

// Device tells what waits with a code.
func (s *Clients) Device(_ context.Context, a Actor, code string, from Caller) (wire.DeviceRequest, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.typed(a, code, from)
	if err != nil {
		return wire.DeviceRequest{}, err
	}
	return wire.DeviceRequest{Code: d.user, Client: d.from.client(), Place: d.from.Place, Here: d.from.Place == from.Place}, nil
}

// AnswerDevice lets it in as the actor, or not.
func (s *Clients) AnswerDevice(_ context.Context, a Actor, code string, from Caller, allow bool) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.typed(a, code, from)
	if err != nil {
		return err
	}
	if d.no = !allow; allow {
		d.as = &a
	}
	return nil
}

// Code lets the command line in that waits on the actor's machine.
func (s *Clients) Code(_ context.Context, a Actor, in wire.NewCode) (wire.MadeCode, error) {
	if a.Token || !a.Grant.Whole() {
		return wire.MadeCode{}, a.beyond()
	}
	u, err := url.Parse(in.Redirect)
	ip, iperr := netip.ParseAddr("")
	if err == nil {
		ip, iperr = netip.ParseAddr(u.Hostname())
	}
	if err != nil || iperr != nil || !ip.IsLoopback() || u.Scheme != "http" || u.Port() == "" || u.Path != "/" || u.RawQuery != "" || u.Fragment != "" || u.User != nil {
		return wire.MadeCode{}, invalid(quote(in.Redirect)+" is not on this machine's loopback", "begin anew")
	}
	key, _ := newToken("yb_code_")
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.room() {
		return wire.MadeCode{}, tooMany("too many programs wait to be let in", time.Minute)
	}
	s.codes[hashed(key)] = granted{as: a, challenge: in.Challenge, redirect: in.Redirect, until: s.now().Add(codeLife)}
	u.RawQuery = url.Values{"code": {key}, "state": {in.State}, "iss": {s.address}}.Encode()
	return wire.MadeCode{Location: u.String()}, nil
}

// The grants that there are.
const (
	CodeGrant   = "authorization_code"
	DeviceGrant = "urn:ietf:params:oauth:grant-type:device_code"
)

// Redeem gives a program the sign-in that somebody lets it have. What it may not have
// is told in the answer, in the words of RFC 6749 and RFC 8628.
func (s *Clients) Redeem(ctx context.Context, form url.Values, from Caller) (wire.OAuthToken, error) {
	as, wrong := s.redeem(form)
	if wrong != "" {
		return wire.OAuthToken{Error: wrong}, nil
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return wire.OAuthToken{}, err
	}
	token, hash := newToken("yb_")
	t := store.Token{ID: store.NewID(), PersonID: as.ID, Hash: hash, Door: "cli", ExpiresAt: s.now().Add(house.SignIn.CommandLine.Longest).UTC(), Place: from.Place, Client: from.client()}
	gone := false
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		// It stands on the sign-in of whoever let it in: what that came by ends it, too.
		by, err := tx.TokenByID(ctx, as.TokenID, tx.Now())
		if gone = err != nil; gone {
			return nil
		}
		p, err := tx.PersonByID(ctx, as.ID)
		if err != nil || p.Left(tx.Now()) {
			gone = true
			return err
		}
		t.ProviderID, t.Session = by.ProviderID, by.Session
		if err := tx.AddToken(ctx, t); err != nil {
			return err
		}
		return tx.Journal(ctx, as.ID, as.ID, as.ID, journal.SignedIn{Door: t.Door, Place: t.Place})
	})
	if gone {
		return wire.OAuthToken{Error: "access_denied", Description: "whoever let it in is not signed in any more"}, nil
	}
	return wire.OAuthToken{AccessToken: token, TokenType: "Bearer", ExpiresIn: int64(house.SignIn.CommandLine.Longest.Seconds())}, err
}

func (s *Clients) redeem(form url.Values) (as Actor, wrong string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.room()
	if form.Get("client_id") != wire.OAuthClient {
		return as, "invalid_client"
	}
	switch form.Get("grant_type") {
	case CodeGrant:
		key := hashed(form.Get("code"))
		c, ok := s.codes[key]
		delete(s.codes, key) // it is used once, whoever brings it
		sum := sha256.Sum256([]byte(form.Get("code_verifier")))
		proved := subtle.ConstantTimeCompare([]byte(base64.RawURLEncoding.EncodeToString(sum[:])), []byte(c.challenge)) == 1
		if !ok || !proved || form.Get("redirect_uri") != c.redirect {
			return as, "invalid_grant"
		}
		return c.as, ""
	case DeviceGrant:
		key := hashed(form.Get("device_code"))
		d, ok := s.devices[key]
		now := s.now()
		switch {
		case !ok:
			return as, "expired_token"
		case d.no:
			delete(s.devices, key)
			return as, "access_denied"
		case d.as == nil && now.Sub(d.asked) < deviceInterval/2:
			d.asked = now
			return as, "slow_down"
		case d.as == nil:
			d.asked = now
			return as, "authorization_pending"
		}
		delete(s.devices, key)
		return *d.as, ""
	}
	return as, "unsupported_grant_type"
}

// Metadata is what the service says of itself as an authorization server (RFC 8414).
func (s *Clients) Metadata() map[string]any {
	at := s.address + "/api/v1/oauth"
	return map[string]any{
		"issuer": s.address, "authorization_endpoint": s.address + "/let-in", "token_endpoint": at + "/token", "device_authorization_endpoint": at + "/device_authorization",
		"response_types_supported": []string{"code"}, "grant_types_supported": []string{CodeGrant, DeviceGrant}, "code_challenge_methods_supported": []string{"S256"},
		"token_endpoint_auth_methods_supported": []string{"none"}, "authorization_response_iss_parameter_supported": true,
		"service_documentation": fmt.Sprint(s.address, "/api/v1/openapi.json"),
	}
}
