package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"runtime"
	"strings"
	"time"

	"github.com/pkg/browser"
	"golang.org/x/oauth2"

	"yardbench/client"
	"yardbench/wire"
)

// browserMost is how long somebody may be in the browser.
const browserMost = 10 * time.Minute

func oauthOf(address string) oauth2.Config {
	at := strings.TrimRight(address, "/")
	return oauth2.Config{ClientID: wire.OAuthClient, Endpoint: oauth2.Endpoint{AuthURL: at + "/let-in", TokenURL: at + "/api/v1/oauth/token", DeviceAuthURL: at + "/api/v1/oauth/device_authorization", AuthStyle: oauth2.AuthStyleInParams}}
}

// naming has requests say what asks.
type naming struct{}

func (naming) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	host, _ := os.Hostname() // it is told without
	r.Header.Set("User-Agent", strings.TrimSpace("yardbench on "+host))
	return http.DefaultTransport.RoundTrip(r)
}

func withNaming(ctx context.Context) context.Context {
	return context.WithValue(ctx, oauth2.HTTPClient, &http.Client{Transport: naming{}, Timeout: 30 * time.Second})
}

// canOpen tells whether a browser can be opened here: one that is seen.
func canOpen() bool {
	switch runtime.GOOS {
	case "darwin", "windows":
		return os.Getenv("SSH_CONNECTION") == ""
	}
	return os.Getenv("DISPLAY") != "" || os.Getenv("WAYLAND_DISPLAY") != ""
}

// byBrowser signs in by a browser on this machine: it comes back to a port that is
// listened on here (RFC 8252), with what only this run can redeem (RFC 7636).
func (a app) byBrowser(ctx context.Context, address string, open bool) (token string, err error) {
	ctx, cancel := context.WithTimeout(withNaming(ctx), browserMost)
	defer cancel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", fmt.Errorf("wait for the browser: %w; without it: yardbench sign-in --device", err)
	}
	defer l.Close()
	c := oauthOf(address)
	c.RedirectURL = "http://" + l.Addr().String() + "/"
	state, verifier := oauth2.GenerateVerifier(), oauth2.GenerateVerifier()
	type came struct {
		code string
		err  error
	}
	back := make(chan came, 1)
	server := &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		if r.URL.Path != "/" || q.Get("state") != state { // somebody else's question
			http.NotFound(w, r)
			return
		}
		one := came{code: q.Get("code")}
		if one.code == "" {
			one.err = errors.New("the console let nobody in")
		}
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		fmt.Fprintln(w, "yardbench has it: go back to your terminal. This page can be closed.")
		select {
		case back <- one:
		default:
		}
	})}
	go func() { _ = server.Serve(l) }() // it ends with what it listens on
	defer server.Close()
	at := c.AuthCodeURL(state, oauth2.S256ChallengeOption(verifier))
	fmt.Fprintf(a.err, "sign in in your browser, at\n  %s\n", at)
	browser.Stdout, browser.Stderr = io.Discard, io.Discard
	if open && browser.OpenURL(at) != nil {
		fmt.Fprintln(a.err, "no browser could be opened: open it by hand")
	}
	select {
	case <-ctx.Done():
		return "", errors.New("nobody came back from the browser; without one on this machine: yardbench sign-in --device")
	case one := <-back:
		if one.err != nil {
			return "", one.err
		}
		t, err := c.Exchange(ctx, one.code, oauth2.VerifierOption(verifier))
		if err != nil {
			return "", fmt.Errorf("sign in: %w", err)
		}
		return t.AccessToken, nil
	}
}

// byDevice signs in by a browser somewhere else (RFC 8628).
func (a app) byDevice(ctx context.Context, address string) (token string, err error) {
	ctx = withNaming(ctx)
	c := oauthOf(address)
	d, err := c.DeviceAuth(ctx)
	if err != nil {
		return "", fmt.Errorf("ask to be let in: %w", err)
	}
	fmt.Fprintf(a.err, "open this in a browser, anywhere:\n  %s\nand type the code\n  %s\n", clean(d.VerificationURI), clean(d.UserCode))
	t, err := c.DeviceAccessToken(ctx, d)
	if refused, ok := errors.AsType[*oauth2.RetrieveError](err); ok {
		switch refused.ErrorCode {
		case "access_denied":
			return "", errors.New("you were not let in: whoever typed the code said no")
		case "expired_token":
			return "", errors.New("the code was not used in time; begin anew: yardbench sign-in --device")
		}
	}
	if err != nil {
		return "", fmt.Errorf("sign in: %w", err)
	}
	return t.AccessToken, nil
}

// arrived asks who one is that was let in.
func arrived(ctx context.Context, address, token string) (wire.SignedIn, error) {
	api, err := client.New(address, token)
	if err != nil {
		return wire.SignedIn{}, err
	}
	me, err := api.Self.Me(ctx)
	if err != nil {
		return wire.SignedIn{}, err
	}
	out := wire.SignedIn{Person: me.Person, Token: token}
	tokens, err := api.Self.Tokens(ctx)
	for _, t := range tokens {
		if t.Current {
			out.ExpiresAt = t.ExpiresAt
		}
	}
	return out, err
}
