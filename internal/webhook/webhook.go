// Package webhook posts to addresses outside. It touches the network, and
// nothing else: what to post and when is its callers' to say.
package webhook

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"syscall"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/reach"
)

// Timeout bounds one delivery.
const Timeout = 15 * time.Second

// ErrInside says that an address is inside our own network.
var ErrInside = errors.New("the address is inside this network")

// Check tells what is wrong with an address, by itself and without asking for
// its name. inside are the hosts within our own network that may be told.
func Check(address string, inside []string) error {
	u, err := url.Parse(address)
	switch {
	case err != nil || u.Host == "" || (u.Scheme != "https" && u.Scheme != "http"):
		return fmt.Errorf("%q is no address; write one like https://hooks.skerryline.example/yard", address)
	case u.User != nil:
		return errors.New("the address holds a user name or password; deliveries are marked with a key instead")
	case u.Fragment != "":
		return errors.New("the address has a fragment, which is never sent")
	}
	if slices.Contains(inside, u.Hostname()) {
		return nil
	}
	if a, err := netip.ParseAddr(u.Hostname()); (err == nil && !reach.Open(a)) || u.Hostname() == "localhost" || strings.HasSuffix(u.Hostname(), ".localhost") {
		return fmt.Errorf("%w: %s", ErrInside, u.Hostname())
	}
	return nil
}

// Post posts one event. status is that of the answer, 0 where there was none;
// an error says why it does not count as delivered. Whatever a name leads to
// is held against the same rule as the address itself, when it is dialled.
func Post(ctx context.Context, address string, inside []string, key, head string, at time.Time, body []byte) (status int, err error) {
	if err := Check(address, inside); err != nil {
		return 0, err
	}
	ctx, cancel := context.WithTimeout(ctx, Timeout)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return 0, err
	}
	stamp := at.UTC().Format(time.RFC3339)
	req.Header.Set("Content-Type", journal.ContentType)
	req.Header.Set("User-Agent", "yardbench")
	req.Header.Set("Hook-Time", stamp)
	req.Header.Set("Hook-Mark", journal.Mark(key, stamp, body))
	if head != "" {
		req.Header.Set("Journal-Head", head)
	}
	free := slices.Contains(inside, req.URL.Hostname())
	dialer := &net.Dialer{Timeout: 5 * time.Second, Control: func(_, to string, _ syscall.RawConn) error {
		host, _, err := net.SplitHostPort(to)
		if err != nil {
			return err
		}
		if a, err := netip.ParseAddr(host); !free && (err != nil || !reach.Open(a)) {
			return fmt.Errorf("%w: %s", ErrInside, host)
		}
		return nil
	}}
	client := &http.Client{Transport: &http.Transport{DialContext: dialer.DialContext, DisableKeepAlives: true, Proxy: nil},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := client.Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err // without the address, which the reader knows
		}
		return 0, err
	}
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, 64<<10)) // its words do not matter
	if res.StatusCode < 200 || res.StatusCode > 299 {
		return res.StatusCode, fmt.Errorf("it answers %s", res.Status)
	}
	return res.StatusCode, nil
}
