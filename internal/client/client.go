// Package client is the Go client of the HTTP door. The command line and the
// tests use it; it touches the network and nothing else.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/gorilla/websocket"

	"yardbench/internal/wire"
)

// Client speaks to one service. Its errors are *wire.Problem where the
// service answered, and *Unreachable where it did not.
type Client struct {
	address string
	token   string
	http    *http.Client
}

// New makes a client for the service at address, signed in by token; an empty
// token signs nobody in.
func New(address, token string) (*Client, error) {
	u, err := url.Parse(address)
	if err != nil || (u.Scheme != "http" && u.Scheme != "https") || u.Host == "" {
		return nil, fmt.Errorf("%q is no address of a service; give one like http://127.0.0.1:7080", address)
	}
	return &Client{address: strings.TrimRight(address, "/"), token: token, http: &http.Client{}}, nil
}

// Unreachable says that the service did not answer.
type Unreachable struct {
	Address string
	Err     error
}

func (e *Unreachable) Error() string {
	return fmt.Sprintf("the service at %s does not answer: %s\ncheck the address, and that the service runs", e.Address, e.Err)
}

func (e *Unreachable) Unwrap() error { return e.Err }

// do sends a request and gives the answer's body, to be closed.
func (c *Client) do(ctx context.Context, method, path string, body any, header http.Header) (*http.Response, error) {
	var r io.Reader
	if body != nil {
		b, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		r = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.address+"/api/v1"+path, r)
	if err != nil {
		return nil, err
	}
	for k, v := range header {
		req.Header[k] = v
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	res, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, &Unreachable{c.address, err}
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
func call[T any](ctx context.Context, c *Client, method, path string, body any) (T, error) {
	var v T
	ctx, cancel := context.WithTimeout(ctx, 3*time.Minute)
	defer cancel()
	res, err := c.do(ctx, method, path, body, nil)
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

type nothing struct{}

func workspace(ref, rest string) string { return "/workspaces/" + url.PathEscape(ref) + rest }

// SignIn checks a password and gives a token.
func (c *Client) SignIn(ctx context.Context, name, password string) (wire.SignedIn, error) {
	return call[wire.SignedIn](ctx, c, "POST", "/sign-in", wire.SignIn{Name: name, Password: password})
}

// SignOut ends this sign-in.
func (c *Client) SignOut(ctx context.Context) error {
	_, err := call[nothing](ctx, c, "POST", "/sign-out", nil)
	return err
}

// Me tells who is signed in.
func (c *Client) Me(ctx context.Context) (wire.Me, error) {
	return call[wire.Me](ctx, c, "GET", "/me", nil)
}

// Repositories lists the registered repositories.
func (c *Client) Repositories(ctx context.Context) ([]wire.Repository, error) {
	return call[[]wire.Repository](ctx, c, "GET", "/repositories", nil)
}

// AddRepository registers a repository.
func (c *Client) AddRepository(ctx context.Context, in wire.NewRepository) (wire.Repository, error) {
	return call[wire.Repository](ctx, c, "POST", "/repositories", in)
}

// ChangeRepository changes whose a repository is.
func (c *Client) ChangeRepository(ctx context.Context, name string, in wire.RepositoryChange) (wire.Repository, error) {
	return call[wire.Repository](ctx, c, "PATCH", "/repositories/"+url.PathEscape(name), in)
}

// Launch asks for a workspace.
func (c *Client) Launch(ctx context.Context, in wire.Launch) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c, "POST", "/workspaces", in)
}

// List lists one's workspaces, or everybody's.
func (c *Client) List(ctx context.Context, all bool) ([]wire.Workspace, error) {
	return call[[]wire.Workspace](ctx, c, "GET", "/workspaces?all="+strconv.FormatBool(all), nil)
}

// Show tells of one workspace.
func (c *Client) Show(ctx context.Context, ref string) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c, "GET", workspace(ref, ""), nil)
}

// Sheets lists a workspace's launch sheets, newest first.
func (c *Client) Sheets(ctx context.Context, ref string) ([]wire.Sheet, error) {
	return call[[]wire.Sheet](ctx, c, "GET", workspace(ref, "/sheets"), nil)
}

// Work tells what in a workspace exists nowhere else.
func (c *Client) Work(ctx context.Context, ref string) (wire.Work, error) {
	return call[wire.Work](ctx, c, "GET", workspace(ref, "/work"), nil)
}

// Start brings a workspace up.
func (c *Client) Start(ctx context.Context, ref string) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c, "POST", workspace(ref, "/start"), nil)
}

// Stop stops a workspace.
func (c *Client) Stop(ctx context.Context, ref string) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c, "POST", workspace(ref, "/stop"), nil)
}

// Rebuild makes a workspace's container anew.
func (c *Client) Rebuild(ctx context.Context, ref string, in wire.Rebuild) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c, "POST", workspace(ref, "/rebuild"), in)
}

// Remove removes a workspace with its files.
func (c *Client) Remove(ctx context.Context, ref string, discard bool) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c, "DELETE", workspace(ref, "?discard="+strconv.FormatBool(discard)), nil)
}

// Containers lists the yard's containers that belong to nobody.
func (c *Client) Containers(ctx context.Context) (wire.Containers, error) {
	return call[wire.Containers](ctx, c, "GET", "/containers", nil)
}

// Adopt takes a container on, by its name or id.
func (c *Client) Adopt(ctx context.Context, container string, in wire.Adopt) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c, "POST", "/containers/"+url.PathEscape(container)+"/adopt", in)
}

// LetGo lets an adopted container go.
func (c *Client) LetGo(ctx context.Context, ref string) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c, "POST", workspace(ref, "/let-go"), nil)
}

// GitCredentials lists what one signs in to git hosts with, but for the secrets.
func (c *Client) GitCredentials(ctx context.Context) ([]wire.KnownCredential, error) {
	return call[[]wire.KnownCredential](ctx, c, "GET", "/git-credentials", nil)
}

// DropGitCredential forgets what one signs in to a git host with.
func (c *Client) DropGitCredential(ctx context.Context, host string) error {
	_, err := call[nothing](ctx, c, "DELETE", "/git-credentials/"+url.PathEscape(host), nil)
	return err
}

// PutGitCredential sets what one signs in to a git host with.
func (c *Client) PutGitCredential(ctx context.Context, host string, in wire.GitCredential) error {
	_, err := call[nothing](ctx, c, "PUT", "/git-credentials/"+url.PathEscape(host), in)
	return err
}

// CopyLog writes a launch sheet's log to w, from a byte on; see the API for
// sheet and step. Where the service goes away while it follows, it goes on when
// that is back, with what is missing.
func (c *Client) CopyLog(ctx context.Context, ref string, sheet, step int, from int64, follow bool, w io.Writer) error {
	if follow && sheet == 0 {
		ws, err := c.Show(ctx, ref)
		if err != nil {
			return err
		}
		sheet = ws.Sheet
	}
	out := &counted{w: w, n: from}
	for failures := 0; ; failures++ {
		before := out.n
		err := c.copyText(ctx, workspace(ref, fmt.Sprintf("/log?sheet=%d&step=%d&from=%d&follow=%t", sheet, step, out.n, follow)), out)
		var said *wire.Problem
		if err == nil || !follow || ctx.Err() != nil || out.err != nil || errors.As(err, &said) || failures >= 10 {
			return err
		}
		if out.n > before {
			failures = 0
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(failures+1) * 200 * time.Millisecond):
		}
	}
}

// counted counts what was written.
type counted struct {
	w   io.Writer
	n   int64
	err error
}

func (c *counted) Write(p []byte) (n int, err error) {
	n, err = c.w.Write(p)
	c.n += int64(n)
	c.err = err
	return n, err
}

// ExportJournal writes journal entries as CloudEvents, one a line. It fails where
// the signed head at the end is missing: what was written is cut then.
func (c *Client) ExportJournal(ctx context.Context, after int64, kind string, w io.Writer) error {
	last := &lastLine{to: w}
	if err := c.copyText(ctx, "/journal/export?"+url.Values{"after": {fmt.Sprint(after)}, "kind": {kind}}.Encode(), last); err != nil {
		return err
	}
	var head struct {
		Type string `json:"type"`
	}
	if json.Unmarshal(last.line, &head) != nil || head.Type != "yardbench.journal.head" {
		return errors.New("the export was broken off: its signed head is missing; go on after its last entry with --after")
	}
	return nil
}

// CopyServiceLog writes the newest lines of a service's log to w.
func (c *Client) CopyServiceLog(ctx context.Context, ref, service string, w io.Writer) error {
	return c.copyText(ctx, workspace(ref, "/services/"+url.PathEscape(service)+"/log"), w)
}

// Watch calls changed at the start and whenever something changed, until it
// says stop, ctx ends, or the service stays away. It connects again by itself.
func (c *Client) Watch(ctx context.Context, changed func() (stop bool, err error)) error {
	for failures := 0; ; failures++ {
		stop, err := c.watchOnce(ctx, func() (bool, error) { failures = 0; return changed() })
		var away *Unreachable
		if stop || ctx.Err() != nil || (err != nil && !errors.As(err, &away)) || failures >= 10 {
			return errors.Join(ctx.Err(), err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(failures+1) * 200 * time.Millisecond):
		}
	}
}

func (c *Client) watchOnce(ctx context.Context, changed func() (bool, error)) (bool, error) {
	res, err := c.do(ctx, "GET", "/events", nil, http.Header{"Accept": {"text/event-stream"}})
	if err != nil {
		return false, err
	}
	defer res.Body.Close()
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		if !strings.HasPrefix(lines.Text(), "data:") {
			continue
		}
		if stop, err := changed(); stop || err != nil {
			return stop, err
		}
	}
	if err := lines.Err(); err != nil && ctx.Err() == nil {
		return false, &Unreachable{c.address, err}
	}
	return false, nil
}

// Session is an open terminal or command.
type Session struct{ ws *websocket.Conn }

// Open opens a terminal or runs a command. Frames are those of [wire.Run].
func (c *Client) Open(ctx context.Context, ref string, in wire.Run) (*Session, error) {
	header := http.Header{}
	if c.token != "" {
		header.Set("Authorization", "Bearer "+c.token)
	}
	ws, res, err := websocket.DefaultDialer.DialContext(ctx, "ws"+strings.TrimPrefix(c.address, "http")+"/api/v1"+workspace(ref, "/session"), header)
	if err != nil {
		if res != nil && res.StatusCode >= 400 {
			return nil, readProblem(res)
		}
		return nil, &Unreachable{c.address, err}
	}
	if err := ws.WriteJSON(in); err != nil {
		ws.Close()
		return nil, &Unreachable{c.address, err}
	}
	return &Session{ws}, nil
}

// Send sends one frame. Only one goroutine may send.
func (s *Session) Send(kind byte, p []byte) error {
	return s.ws.WriteMessage(websocket.BinaryMessage, append([]byte{kind}, p...))
}

// Receive gives the next frame. A refusal is a *wire.Problem.
func (s *Session) Receive() (kind byte, p []byte, err error) {
	for {
		t, m, err := s.ws.ReadMessage()
		if err != nil {
			return 0, nil, fmt.Errorf("the connection to the workspace ended: %w", err)
		}
		if t != websocket.BinaryMessage || len(m) == 0 {
			continue
		}
		if m[0] == 'p' {
			var p wire.Problem
			if err := json.Unmarshal(m[1:], &p); err != nil {
				return 0, nil, err
			}
			return 0, nil, &p
		}
		return m[0], m[1:], nil
	}
}

// Close ends the session; a terminal lives on in the workspace.
func (s *Session) Close() error { return s.ws.Close() }
