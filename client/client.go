// Package client is the Go client of the HTTP door, for anybody's programs; the
// command line and the tests use it too. It touches the network and nothing else.
//
// What has no answer is asked again where that does no harm: looks, and what makes
// something, which goes with a key and is done once. Lists are read to their end;
// logs and events go on where they were cut off.
package client

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"yardbench/wire"
)

// Client speaks to one service, a field for each noun. Its errors are *wire.Problem
// where the service answered, and *Unreachable where it did not.
type Client struct {
	*link
	Workspaces   Workspaces
	Ports        Ports
	Files        Files
	Changes      Changes
	Bench        Bench
	Recordings   Recordings
	Attention    Attention
	Containers   Containers
	Quarantine   Quarantine
	Operations   Operations
	Repositories Repositories
	Starters     Starters
	Prebuilds    Prebuilds
	People       People
	Self         Self
	Secrets      Secrets
	Journal      Journal
	Rules        Rules
	Costs        Costs
	Webhooks     Webhooks
	Providers    Providers
	GitHosts     GitHosts
	SealingKeys  SealingKeys
	LaunchLinks  LaunchLinks
	Guests       Guests
}

// link is the way to a service.
type link struct {
	// Zone, where it is set, is told the zone in which the house tells its times, with
	// each answer that says it.
	Zone func(name string)
	// Renewed, where it is set, is asked for the token each time that one is needed: what
	// goes on for long has the newer value of a sign-in that was renewed meanwhile.
	Renewed func() string
	address string
	token   string
	http    *http.Client
	silence time.Duration
}

// The nouns, with a method an operation of the door.
type (
	Workspaces   struct{ *link } // launch, watch, use and end workspaces
	Ports        struct{ *link } // are the ports of workspaces
	Files        struct{ *link } // are the files in workspaces
	Bench        struct{ *link } // is what serves languages and debugs in a workspace
	Changes      struct{ *link } // are what is changed in the clones of workspaces
	Attention    struct{ *link } // is what needs somebody, by cause
	Recordings   struct{ *link } // are what terminals printed and was kept
	Containers   struct{ *link } // are those that others started in the yard
	Quarantine   struct{ *link } // is what the yard has of workspaces that no record knows
	Operations   struct{ *link } // ask one verb of many workspaces
	Repositories struct{ *link } // are the registered ones, with their definitions
	Starters     struct{ *link } // are ready definitions
	Prebuilds    struct{ *link } // are plans of prepared images, and their runs
	People       struct{ *link } // are people, accounts of programs, teams and links
	Self         struct{ *link } // is who one is: sign-ins, tokens and git credentials
	Secrets      struct{ *link } // are a person's, or a repository's
	Journal      struct{ *link } // is what happened
	Rules        struct{ *link } // are the versions of the house rules
	Costs        struct{ *link } // are reports of what was used
	LaunchLinks  struct{ *link } // are prepared launches behind short addresses
	Guests       struct{ *link } // are people whose access ends by itself
	SealingKeys  struct{ *link } // are the keys that everything secret in the records is sealed with
	GitHosts     struct{ *link } // are git hosts that people connect with
	Providers    struct{ *link } // are identity providers by which people sign in
	Webhooks     struct{ *link } // are addresses that are told of entries
)

// New makes a client for the service at address, signed in by token; an empty
// token signs nobody in.
func New(address, token string) (*Client, error) {
	u, err := url.Parse(address)
	if err != nil || (u.Scheme != "http" && u.Scheme != "https") || u.Host == "" {
		return nil, fmt.Errorf("%q is no address of a service; give one like http://127.0.0.1:7080", address)
	}
	l := &link{address: strings.TrimRight(address, "/"), token: token, http: &http.Client{}, silence: silence}
	return &Client{l, Workspaces{l}, Ports{l}, Files{l}, Changes{l}, Bench{l}, Recordings{l}, Attention{l}, Containers{l}, Quarantine{l}, Operations{l}, Repositories{l}, Starters{l}, Prebuilds{l}, People{l}, Self{l}, Secrets{l}, Journal{l}, Rules{l}, Costs{l}, Webhooks{l}, Providers{l}, GitHosts{l}, SealingKeys{l}, LaunchLinks{l}, Guests{l}}, nil
}

// Address is where the service is.
func (c *Client) Address() string { return c.address }

// Unreachable says that the service did not answer.
type Unreachable struct {
	Address string
	Err     error
}

func (e *Unreachable) Error() string {
	return fmt.Sprintf("the service at %s does not answer: %s\ncheck the address, and that the service runs", e.Address, e.Err)
}

func (e *Unreachable) Unwrap() error { return e.Err }

// What may be asked again is asked so often, with pauses that double.
const (
	tries      = 5
	firstPause = 200 * time.Millisecond
)

// do sends a request and gives the answer's body, to be closed. What has no
// answer is asked again where that does no harm: it is known by its key, or
// changes nothing.
func (c *link) do(ctx context.Context, method, path string, body any, header http.Header) (*http.Response, error) {
	var text []byte
	if body != nil {
		b, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		text = b
	}
	if method == http.MethodPost {
		if header = header.Clone(); header == nil {
			header = http.Header{}
		}
		header.Set("Idempotency-Key", rand.Text())
	}
	for n, pause := 1, firstPause; ; n, pause = n+1, 2*pause {
		res, err := c.once(ctx, method, path, text, header)
		if n == tries || !again(method, path, err) {
			return res, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(pause):
		}
	}
}

// strangers are where nobody is known yet whose key could be.
var strangers = []string{"/sign-in", "/enrolments/use"}

// again tells whether what went wrong with a request may go well in a moment,
// and whether asking again does no harm.
func again(method, path string, err error) bool {
	if method != http.MethodGet && method != http.MethodPost || slices.Contains(strangers, path) || strings.HasSuffix(path, "/test") {
		return false
	}
	var away *Unreachable
	if errors.As(err, &away) { // where nobody listens, nobody will in a moment
		var unknown *net.DNSError
		return !errors.Is(err, syscall.ECONNREFUSED) && !errors.As(err, &unknown)
	}
	var p *wire.Problem
	return errors.As(err, &p) && (p.Status == http.StatusBadGateway || p.Status == http.StatusGatewayTimeout || p.Type == "urn:yardbench:problem:under-way")
}

// once sends a request.
func (c *link) once(ctx context.Context, method, path string, body []byte, header http.Header) (*http.Response, error) {
	var r io.Reader
	if body != nil {
		r = bytes.NewReader(body)
	}
	if body != nil {
		if header = header.Clone(); header == nil {
			header = http.Header{}
		}
		header.Set("Content-Type", "application/json")
	}
	return c.pass(ctx, method, path, r, header)
}

// signIn says in a request who asks.
func (c *link) signIn(header http.Header) {
	token := c.token
	if c.Renewed != nil {
		token = c.Renewed()
	}
	if token != "" {
		header.Set("Authorization", "Bearer "+token)
	}
}

// pass sends a request whose body may be of any length, once.
func (c *link) pass(ctx context.Context, method, path string, body io.Reader, header http.Header) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.address+"/api/v1"+path, body)
	if err != nil {
		return nil, err
	}
	req.Header.Set("User-Agent", "yardbench")
	for k, v := range header {
		req.Header[k] = v
	}
	c.signIn(req.Header)
	res, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, &Unreachable{c.address, err}
	}
	if zone := res.Header.Get(wire.ZoneHeader); zone != "" && c.Zone != nil {
		c.Zone(zone)
	}
	if res.StatusCode >= 400 {
		defer res.Body.Close()
		return nil, readProblem(res)
	}
	return res, nil
}

func readProblem(res *http.Response) error {
	body, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20)) // what could be read is judged below
	var p wire.Problem
	if json.Unmarshal(body, &p) != nil || p.Status == 0 {
		p = wire.Problem{Title: res.Status, Status: res.StatusCode, Detail: "the service answered " + res.Status}
	}
	return &p
}

// call sends a request and reads a JSON answer into T.
func call[T any](ctx context.Context, c *link, method, path string, body any) (T, error) {
	return send[T](ctx, c, method, path, body, nil)
}

// send is call with more to the head of the request.
func send[T any](ctx context.Context, c *link, method, path string, body any, header http.Header) (T, error) {
	var v T
	ctx, cancel := context.WithTimeout(ctx, 3*time.Minute)
	defer cancel()
	res, err := c.do(ctx, method, path, body, header)
	if err != nil {
		return v, err
	}
	defer res.Body.Close()
	if res.StatusCode == http.StatusNoContent {
		return v, nil
	}
	if err := json.NewDecoder(io.LimitReader(res.Body, 64<<20)).Decode(&v); err != nil {
		return v, fmt.Errorf("the answer of %s cannot be read: %w", c.address, err)
	}
	return v, nil
}

// listMost is how many things of a list are asked for at once, and partsMost how
// often: a service that never comes to an end is not followed for ever.
const (
	listMost  = 1000
	partsMost = 10_000
)

// all reads a whole list, part by part. What changes meanwhile may be there or
// not; nothing that stays is left out or there twice.
func all[T any](ctx context.Context, c *link, path string) ([]T, error) {
	out, after := []T{}, ""
	for range partsMost {
		part, err := some[T](ctx, c, path, listMost, after)
		if err != nil {
			return nil, err
		}
		out = append(out, part.Items...)
		if part.Next == "" || part.Next == after {
			return out, nil
		}
		after = part.Next
	}
	return nil, fmt.Errorf("the list at %s%s does not come to an end", c.address, path)
}

// some reads one part of a list.
func some[T any](ctx context.Context, c *link, path string, limit int, after string) (wire.List[T], error) {
	path, query, _ := strings.Cut(path, "?")
	v, err := url.ParseQuery(query)
	if err != nil {
		return wire.List[T]{}, err
	}
	v.Set("limit", strconv.Itoa(limit))
	if after != "" {
		v.Set("after", after)
	}
	return call[wire.List[T]](ctx, c, "GET", path+"?"+v.Encode(), nil)
}

type nothing struct{}

func webhook(id, more string) string { return "/webhooks/" + url.PathEscape(id) + more }

// copyText writes a text answer to w as it comes.
func (c *link) copyText(ctx context.Context, path string, w io.Writer) error {
	res, err := c.do(ctx, "GET", path, nil, nil)
	return drain(ctx, res, err, w)
}

// drain writes an answer to w as it comes.
func drain(ctx context.Context, res *http.Response, err error, w io.Writer) error {
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, err = io.Copy(w, res.Body)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}
