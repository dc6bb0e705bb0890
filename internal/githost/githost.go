// Package githost speaks OAuth 2.0 with git hosts: where somebody is sent to let this
// service in as them, what they come back with, and how that is kept fresh and ended.
// It touches the network, at the addresses of git hosts alone, and nothing of the
// service's.
//
// By RFC 6749 (code), with PKCE (RFC 7636), RFC 8628 (devices) and RFC 7009
// (revocation).
package githost

import (
	"context"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"time"

	"golang.org/x/oauth2"

	"yardbench/internal/reach"
)

// Host is a git host as it was registered.
type Host struct {
	Authorize, Token string // where people let programs in, and where that is redeemed
	Device, Revoke   string // "" where it has no such place
	Client, Secret   string
	Scopes           []string
	Callback         string // where it sends people back to
	// Repositories answers a list of those that somebody may read, in JSON, in parts
	// by Link headers (RFC 8288); Member is which of each one's members has the
	// address that git takes. "" where the host has no such list.
	Repositories, Member string
}

// Tokens is what somebody has lent the service at a host.
type Tokens struct {
	Access, Refresh string
	Until           time.Time // the zero time: until it is taken back
}

// Arrival is a connection that is under way: what whoever comes back must bring.
type Arrival struct{ State, Verifier string }

// The ways in which it fails.
var (
	ErrAway    = errors.New("the git host does not answer")
	ErrRefused = errors.New("the git host refuses")
	ErrWaits   = errors.New("nobody has answered yet") // at a device's code
)

const (
	askMost    = 15 * time.Second
	answerMost = 4 << 20
	tokenMost  = 4096 // bytes
	partsMost  = 20
	listMost   = 2000 // repositories
)

var asking = reach.Asking(askMost, answerMost)

func (h Host) config() *oauth2.Config {
	return &oauth2.Config{ClientID: h.Client, ClientSecret: h.Secret, RedirectURL: h.Callback, Scopes: h.Scopes,
		Endpoint: oauth2.Endpoint{AuthURL: h.Authorize, TokenURL: h.Token, DeviceAuthURL: h.Device}}
}

func with(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.WithValue(ctx, oauth2.HTTPClient, asking), askMost)
}

// Begin begins a connection: where somebody is sent.
func (h Host) Begin() (address string, a Arrival) {
	a = Arrival{State: oauth2.GenerateVerifier(), Verifier: oauth2.GenerateVerifier()}
	return h.config().AuthCodeURL(a.State, oauth2.S256ChallengeOption(a.Verifier)), a
}

// Return takes what somebody came back with.
func (h Host) Return(ctx context.Context, a Arrival, q url.Values) (Tokens, error) {
	switch {
	case a.State == "" || subtle.ConstantTimeCompare([]byte(q.Get("state")), []byte(a.State)) != 1:
		return Tokens{}, fmt.Errorf("%w: it answers another question", ErrRefused)
	case q.Get("error") != "":
		return Tokens{}, fmt.Errorf("%w: %.200q", ErrRefused, q.Get("error")+" "+q.Get("error_description"))
	}
	ctx, cancel := with(ctx)
	defer cancel()
	return said(h.config().Exchange(ctx, q.Get("code"), oauth2.VerifierOption(a.Verifier)))
}

// Refresh exchanges what was lent for what counts longer. ErrRefused says that it was
// taken back; a host that does not know this service any more has taken nothing back.
func (h Host) Refresh(ctx context.Context, refresh string) (Tokens, error) {
	ctx, cancel := with(ctx)
	defer cancel()
	token, err := h.config().TokenSource(ctx, &oauth2.Token{RefreshToken: refresh}).Token()
	if no, ok := errors.AsType[*oauth2.RetrieveError](err); ok && no.ErrorCode != "invalid_grant" { // RFC 6749, 5.2
		return Tokens{}, fmt.Errorf("%w: to this service it says %.200q", ErrAway, no.ErrorCode+" "+no.ErrorDescription)
	}
	t, err := said(token, err)
	if err == nil && t.Refresh == "" {
		t.Refresh = refresh // RFC 6749, 6: the old one counts on
	}
	return t, err
}

// said reads what a host answers to one who asks for tokens.
func said(t *oauth2.Token, err error) (Tokens, error) {
	if no, ok := errors.AsType[*oauth2.RetrieveError](err); ok && no.Response.StatusCode < 500 && no.Response.StatusCode != http.StatusTooManyRequests {
		switch no.ErrorCode {
		case "authorization_pending", "slow_down":
			return Tokens{}, ErrWaits
		}
		return Tokens{}, fmt.Errorf("%w: %.200q", ErrRefused, no.ErrorCode+" "+no.ErrorDescription)
	}
	if err != nil {
		return Tokens{}, fmt.Errorf("%w: %w", ErrAway, err)
	}
	for _, s := range []string{t.AccessToken, t.RefreshToken} {
		if len(s) > tokenMost || strings.ContainsAny(s, "\r\n\x00") {
			return Tokens{}, fmt.Errorf("%w: what it lends is no token", ErrRefused)
		}
	}
	if t.AccessToken == "" {
		return Tokens{}, fmt.Errorf("%w: it lends nothing", ErrRefused)
	}
	return Tokens{t.AccessToken, t.RefreshToken, t.Expiry}, nil
}

// DeviceCode is what somebody types at a host, at whichever browser they have.
type DeviceCode struct {
	Device, Code, At string
	Until            time.Time
	Interval         time.Duration
}

// BeginDevice begins a connection for somebody who has no browser here.
func (h Host) BeginDevice(ctx context.Context) (DeviceCode, error) {
	ctx, cancel := with(ctx)
	defer cancel()
	d, err := h.config().DeviceAuth(ctx)
	if no, ok := errors.AsType[*oauth2.RetrieveError](err); ok && no.Response.StatusCode < 500 {
		return DeviceCode{}, fmt.Errorf("%w: %.200q", ErrRefused, no.ErrorCode+" "+no.ErrorDescription)
	}
	if err != nil {
		return DeviceCode{}, fmt.Errorf("%w: %w", ErrAway, err)
	}
	if u, err := url.Parse(d.VerificationURI); err != nil || u.Scheme != "https" && u.Scheme != "http" || len(d.UserCode) > 64 || len(d.DeviceCode) > tokenMost {
		return DeviceCode{}, fmt.Errorf("%w: it names no address to type a code at", ErrRefused)
	}
	return DeviceCode{d.DeviceCode, d.UserCode, d.VerificationURI, d.Expiry, time.Duration(max(1, d.Interval)) * time.Second}, nil
}

// AskDevice asks once whether a code was typed; ErrWaits says that it was not yet.
func (h Host) AskDevice(ctx context.Context, device string) (Tokens, error) {
	ctx, cancel := with(ctx)
	defer cancel()
	form := url.Values{"grant_type": {"urn:ietf:params:oauth:grant-type:device_code"}, "device_code": {device}, "client_id": {h.Client}}
	var t struct {
		Access  string `json:"access_token"`
		Refresh string `json:"refresh_token"`
		Seconds int64  `json:"expires_in"`
		Error   string `json:"error"`
		Why     string `json:"error_description"`
	}
	// The library waits by itself until somebody has answered; here whoever asks does.
	status, err := h.post(ctx, h.Token, form, &t)
	if err != nil {
		return Tokens{}, err
	}
	if t.Error != "" || status >= 300 {
		return said(nil, &oauth2.RetrieveError{Response: &http.Response{StatusCode: max(status, 400)}, ErrorCode: t.Error, ErrorDescription: t.Why})
	}
	token := &oauth2.Token{AccessToken: t.Access, RefreshToken: t.Refresh}
	if t.Seconds > 0 {
		token.Expiry = time.Now().Add(time.Duration(t.Seconds) * time.Second)
	}
	return said(token, nil)
}

// End has a host forget what was lent. A host without such a place forgets it in time.
func (h Host) End(ctx context.Context, t Tokens) error {
	if h.Revoke == "" {
		return nil
	}
	ctx, cancel := with(ctx)
	defer cancel()
	for kind, token := range map[string]string{"refresh_token": t.Refresh, "access_token": t.Access} {
		if token == "" {
			continue
		}
		status, err := h.post(ctx, h.Revoke, url.Values{"token": {token}, "token_type_hint": {kind}}, nil)
		if err != nil {
			return err
		}
		if status >= 300 {
			return fmt.Errorf("%w: it answers %d", ErrAway, status)
		}
	}
	return nil
}

// post asks as the client that the host knows (RFC 6749, 2.3.1).
func (h Host) post(ctx context.Context, at string, form url.Values, into any) (status int, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, at, strings.NewReader(form.Encode()))
	if err != nil {
		return 0, err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	req.Header.Set("Accept", "application/json")
	req.SetBasicAuth(url.QueryEscape(h.Client), url.QueryEscape(h.Secret))
	res, err := asking.Do(req)
	if err != nil {
		return 0, fmt.Errorf("%w: %w", ErrAway, err)
	}
	defer res.Body.Close()
	if res.StatusCode >= 500 || into == nil {
		_, err = io.Copy(io.Discard, res.Body)
	} else {
		err = json.NewDecoder(res.Body).Decode(into)
	}
	if res.StatusCode >= 500 || err != nil {
		return 0, fmt.Errorf("%w: it answers %s", ErrAway, res.Status)
	}
	return res.StatusCode, nil
}

var nextPart = regexp.MustCompile(`<([^<>]+)>\s*;[^,]*\brel="?next"?`)

// List lists the addresses of the repositories that somebody may read, at most 2,000.
func (h Host) List(ctx context.Context, access string) ([]string, error) {
	if h.Repositories == "" {
		return nil, nil
	}
	first, err := url.Parse(h.Repositories)
	if err != nil {
		return nil, err
	}
	out := []string{}
	at := first
	for range partsMost {
		ctx, cancel := context.WithTimeout(ctx, askMost)
		part, next, err := h.part(ctx, at, access)
		cancel()
		if err != nil {
			return nil, err
		}
		if out = append(out, part...); next == "" || len(out) >= listMost {
			break
		}
		if at, err = at.Parse(next); err != nil || at.Host != first.Host || at.Scheme != first.Scheme {
			return nil, fmt.Errorf("%w: its list goes on elsewhere", ErrRefused)
		}
	}
	return out[:min(len(out), listMost)], nil
}

func (h Host) part(ctx context.Context, at *url.URL, access string) (out []string, next string, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at.String(), nil)
	if err != nil {
		return nil, "", err
	}
	req.Header.Set("Accept", "application/json")
	req.Header.Set("Authorization", "Bearer "+access)
	res, err := asking.Do(req)
	if err != nil {
		return nil, "", fmt.Errorf("%w: %w", ErrAway, err)
	}
	defer res.Body.Close()
	if res.StatusCode == http.StatusUnauthorized || res.StatusCode == http.StatusForbidden {
		return nil, "", fmt.Errorf("%w: it answers %s", ErrRefused, res.Status)
	}
	var list []map[string]json.RawMessage
	if err := json.NewDecoder(res.Body).Decode(&list); err != nil || res.StatusCode >= 300 {
		return nil, "", fmt.Errorf("%w: it answers %s, and no list", ErrAway, res.Status)
	}
	for _, r := range list {
		var address string
		if json.Unmarshal(r[h.Member], &address) == nil && address != "" && len(address) <= 2048 {
			out = append(out, address)
		}
	}
	if m := nextPart.FindStringSubmatch(res.Header.Get("Link")); m != nil {
		next = m[1]
	}
	return out, next, nil
}
