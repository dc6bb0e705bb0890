package client

import (
	"bytes"
	"context"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/gorilla/websocket"

	"yardbench/internal/wire"
)

func repository(name, rest string) string { return "/repositories/" + url.PathEscape(name) + rest }

// People lists the people one may see.
func (c *Client) People(ctx context.Context) ([]wire.Person, error) {
	return call[[]wire.Person](ctx, c, "GET", "/people", nil)
}

// ChangePerson changes somebody's role or team, or closes or opens their account.
func (c *Client) ChangePerson(ctx context.Context, name string, in wire.PersonChange) (wire.Person, error) {
	return call[wire.Person](ctx, c, "PATCH", "/people/"+url.PathEscape(name), in)
}

// ErasePerson takes away everything that is known of somebody whose account is
// closed.
func (c *Client) ErasePerson(ctx context.Context, name string) (wire.Person, error) {
	return call[wire.Person](ctx, c, "DELETE", "/people/"+url.PathEscape(name), nil)
}

// Teams lists the teams.
func (c *Client) Teams(ctx context.Context) ([]wire.Team, error) {
	return call[[]wire.Team](ctx, c, "GET", "/teams", nil)
}

// AddTeam adds a team.
func (c *Client) AddTeam(ctx context.Context, name string) (wire.Team, error) {
	return call[wire.Team](ctx, c, "POST", "/teams", wire.Team{Name: name})
}

// Enrol makes an enrolment link.
func (c *Client) Enrol(ctx context.Context, in wire.NewEnrolment) (wire.Enrolment, error) {
	return call[wire.Enrolment](ctx, c, "POST", "/enrolments", in)
}

// Offer tells what an enrolment link is for.
func (c *Client) Offer(ctx context.Context, key string) (wire.EnrolmentOffer, error) {
	return call[wire.EnrolmentOffer](ctx, c, "POST", "/enrolments/offer", wire.EnrolmentKey{Key: key})
}

// UseEnrolment sets up an account, or a new password.
func (c *Client) UseEnrolment(ctx context.Context, in wire.EnrolmentUse) (wire.Person, error) {
	return call[wire.Person](ctx, c, "POST", "/enrolments/use", in)
}

// Tokens lists one's sign-ins and tokens.
func (c *Client) Tokens(ctx context.Context) ([]wire.Token, error) {
	return call[[]wire.Token](ctx, c, "GET", "/tokens", nil)
}

// MakeToken makes a token.
func (c *Client) MakeToken(ctx context.Context, in wire.NewToken) (wire.MadeToken, error) {
	return call[wire.MadeToken](ctx, c, "POST", "/tokens", in)
}

// EndToken ends a sign-in or token.
func (c *Client) EndToken(ctx context.Context, id string) error {
	_, err := call[nothing](ctx, c, "DELETE", "/tokens/"+url.PathEscape(id), nil)
	return err
}

// secrets is the path of one's own secrets, or a repository's.
func secrets(of, name string) string {
	path := "/secrets"
	if of != "" {
		path = repository(of, path)
	}
	if name != "" {
		path += "/" + url.PathEscape(name)
	}
	return path
}

// Secrets lists one's own secrets, or those of a repository.
func (c *Client) Secrets(ctx context.Context, of string) ([]wire.Secret, error) {
	return call[[]wire.Secret](ctx, c, "GET", secrets(of, ""), nil)
}

// PutSecret sets one of one's own secrets, or of a repository's.
func (c *Client) PutSecret(ctx context.Context, of, name string, in wire.SecretValue) (wire.Secret, error) {
	return call[wire.Secret](ctx, c, "PUT", secrets(of, name), in)
}

// DropSecret removes one of one's own secrets, or of a repository's.
func (c *Client) DropSecret(ctx context.Context, of, name string) error {
	_, err := call[nothing](ctx, c, "DELETE", secrets(of, name), nil)
	return err
}

// ExplainSecrets says what becomes of each secret in a repository's workspaces.
func (c *Client) ExplainSecrets(ctx context.Context, of string) ([]wire.SecretChoice, error) {
	return call[[]wire.SecretChoice](ctx, c, "GET", repository(of, "/secrets-explained"), nil)
}

// CheckDefinition says what is wrong with the definition at a branch's head;
// branch "" is the repository's own.
func (c *Client) CheckDefinition(ctx context.Context, of, branch, name string) (wire.DefinitionCheck, error) {
	return call[wire.DefinitionCheck](ctx, c, "GET", repository(of, "/definition?")+url.Values{"branch": {branch}, "name": {name}}.Encode(), nil)
}

// Services lists the services beside a workspace.
func (c *Client) Services(ctx context.Context, ref string) ([]wire.Service, error) {
	return call[[]wire.Service](ctx, c, "GET", workspace(ref, "/services"), nil)
}

// Starters lists the starters.
func (c *Client) Starters(ctx context.Context) ([]wire.Starter, error) {
	return call[[]wire.Starter](ctx, c, "GET", "/starters", nil)
}

// FillStarter gives a starter's files, with what was chosen in them.
func (c *Client) FillStarter(ctx context.Context, name string, in wire.FillStarter) (wire.FilledStarter, error) {
	return call[wire.FilledStarter](ctx, c, "POST", "/starters/"+url.PathEscape(name), in)
}

// JournalHead gives the journal's newest entry, signed.
func (c *Client) JournalHead(ctx context.Context) (wire.JournalHead, error) {
	return call[wire.JournalHead](ctx, c, "GET", "/journal/head", nil)
}

// VerifyJournal has the journal looked through, and held against heads.
func (c *Client) VerifyJournal(ctx context.Context, heads []string) (wire.JournalVerdict, error) {
	return call[wire.JournalVerdict](ctx, c, "POST", "/journal/verify", wire.JournalHeads{Heads: heads})
}

// Webhooks lists the webhooks.
func (c *Client) Webhooks(ctx context.Context) ([]wire.Webhook, error) {
	return call[[]wire.Webhook](ctx, c, "GET", "/webhooks", nil)
}

// AddWebhook has an address told of journal entries.
func (c *Client) AddWebhook(ctx context.Context, in wire.NewWebhook) (wire.MadeWebhook, error) {
	return call[wire.MadeWebhook](ctx, c, "POST", "/webhooks", in)
}

func webhook(id, more string) string { return "/webhooks/" + url.PathEscape(id) + more }

// DropWebhook ends the telling of one.
func (c *Client) DropWebhook(ctx context.Context, id string) error {
	_, err := call[nothing](ctx, c, "DELETE", webhook(id, ""), nil)
	return err
}

// TestWebhook posts a test.
func (c *Client) TestWebhook(ctx context.Context, id string) (wire.Delivery, error) {
	return call[wire.Delivery](ctx, c, "POST", webhook(id, "/test"), nil)
}

// Deliveries is the log of a webhook.
func (c *Client) Deliveries(ctx context.Context, id string) ([]wire.Delivery, error) {
	return call[[]wire.Delivery](ctx, c, "GET", webhook(id, "/deliveries"), nil)
}

// Health tells how the service is.
func (c *Client) Health(ctx context.Context) (wire.Health, error) {
	return call[wire.Health](ctx, c, "GET", "/health", nil)
}

// Preflight says what a launch would come to.
func (c *Client) Preflight(ctx context.Context, in wire.Launch) (wire.Preflight, error) {
	return call[wire.Preflight](ctx, c, "POST", "/preflight", in)
}

// Rules gives every version of the house rules, the newest first.
func (c *Client) Rules(ctx context.Context) ([]wire.Rules, error) {
	return call[[]wire.Rules](ctx, c, "GET", "/rules", nil)
}

// CheckRules says what is wrong with a document, and what it would change.
func (c *Client) CheckRules(ctx context.Context, document string) (wire.RulesCheck, error) {
	return call[wire.RulesCheck](ctx, c, "POST", "/rules/check", wire.RulesText{Document: document})
}

// PutRules makes a document the house rules.
func (c *Client) PutRules(ctx context.Context, in wire.RulesText) (wire.Rules, error) {
	return call[wire.Rules](ctx, c, "PUT", "/rules", in)
}

// Hold keeps a workspace from being put to rest.
func (c *Client) Hold(ctx context.Context, ref string, in wire.Hold) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c, "PUT", workspace(ref, "/hold"), in)
}

// EndHold lets a workspace be put to rest again.
func (c *Client) EndHold(ctx context.Context, ref string) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c, "DELETE", workspace(ref, "/hold"), nil)
}

// Ports lists the ports of a workspace.
func (c *Client) Ports(ctx context.Context, ref string) ([]wire.Port, error) {
	return call[[]wire.Port](ctx, c, "GET", workspace(ref, "/ports"), nil)
}

// SharePort says who may visit a port.
func (c *Client) SharePort(ctx context.Context, ref string, port int, shared bool) ([]wire.Port, error) {
	return call[[]wire.Port](ctx, c, "PUT", workspace(ref, "/ports/"+strconv.Itoa(port)), wire.PortChange{Shared: shared})
}

// Visit gives the way to a port's address.
func (c *Client) Visit(ctx context.Context, address string) (wire.PortPass, error) {
	return call[wire.PortPass](ctx, c, "POST", "/port-passes", wire.PortVisit{Address: address})
}

// Plans lists the prebuild plans; of one repository unless it is empty.
func (c *Client) Plans(ctx context.Context, of string) ([]wire.PrebuildPlan, error) {
	return call[[]wire.PrebuildPlan](ctx, c, "GET", "/prebuild-plans?repository="+url.QueryEscape(of), nil)
}

// PutPlan makes or changes a prebuild plan.
func (c *Client) PutPlan(ctx context.Context, of string, in wire.PutPlan) (wire.PrebuildPlan, error) {
	return call[wire.PrebuildPlan](ctx, c, "PUT", repository(of, "/prebuild-plan"), in)
}

// DropPlan removes a prebuild plan.
func (c *Client) DropPlan(ctx context.Context, of, branch string) error {
	_, err := call[nothing](ctx, c, "DELETE", repository(of, "/prebuild-plan?branch="+url.QueryEscape(branch)), nil)
	return err
}

// RunPlan makes a prepared image now.
func (c *Client) RunPlan(ctx context.Context, of, branch string) (wire.PrebuildRun, error) {
	return call[wire.PrebuildRun](ctx, c, "POST", repository(of, "/prebuild-runs"), wire.Branch{Branch: branch})
}

// RunSheet gives the launch sheet of a prebuild run.
func (c *Client) RunSheet(ctx context.Context, run string) (wire.Sheet, error) {
	return call[wire.Sheet](ctx, c, "GET", "/prebuild-runs/"+url.PathEscape(run)+"/sheet", nil)
}

// CopyRunLog writes a prebuild run's log to w.
func (c *Client) CopyRunLog(ctx context.Context, run string, follow bool, w io.Writer) error {
	return c.copyText(ctx, "/prebuild-runs/"+url.PathEscape(run)+"/log?follow="+strconv.FormatBool(follow), w)
}

// NewPushKey gives a repository a fresh push key.
func (c *Client) NewPushKey(ctx context.Context, of string) (wire.PushKey, error) {
	return call[wire.PushKey](ctx, c, "PUT", repository(of, "/push-key"), nil)
}

// CostQuery says what is to be reported; empty fields are the usual.
type CostQuery struct{ By, From, To string }

func (q CostQuery) encode() string {
	v := url.Values{}
	for k, s := range map[string]string{"by": q.By, "from": q.From, "to": q.To} {
		if s != "" {
			v.Set(k, s)
		}
	}
	return v.Encode()
}

// Cost tells what was used, and what it cost.
func (c *Client) Cost(ctx context.Context, q CostQuery) (wire.Cost, error) {
	return call[wire.Cost](ctx, c, "GET", "/cost?"+q.encode(), nil)
}

// CostCSV writes the same as comma-separated values.
func (c *Client) CostCSV(ctx context.Context, q CostQuery, w io.Writer) error {
	return c.copyText(ctx, "/cost.csv?"+q.encode(), w)
}

// JournalQuery says which journal entries are wanted; empty fields do not count.
type JournalQuery struct {
	After                   int64
	Newest                  bool
	Workspace, Person, Kind string
	From, To                string // times, or days
	Limit                   int
}

// Journal lists journal entries.
func (c *Client) Journal(ctx context.Context, q JournalQuery) ([]wire.JournalEntry, error) {
	v := url.Values{"after": {strconv.FormatInt(q.After, 10)}, "newest": {strconv.FormatBool(q.Newest)}, "workspace": {q.Workspace}, "person": {q.Person}, "kind": {q.Kind}, "from": {q.From}, "to": {q.To}}
	if q.Limit > 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	return call[[]wire.JournalEntry](ctx, c, "GET", "/journal?"+v.Encode(), nil)
}

// lastLine passes on what is written, and keeps the last line of it.
type lastLine struct {
	to   io.Writer
	line []byte
}

func (l *lastLine) Write(p []byte) (int, error) {
	text := bytes.TrimRight(p, "\n")
	if i := bytes.LastIndexByte(text, '\n'); i >= 0 {
		l.line = append([]byte(nil), p[i+1:]...)
	} else if bytes.HasSuffix(l.line, []byte("\n")) {
		l.line = append([]byte(nil), p...)
	} else {
		l.line = append(l.line, p...)
	}
	return l.to.Write(p)
}

// copyText writes a text answer to w as it comes.
func (c *Client) copyText(ctx context.Context, path string, w io.Writer) error {
	res, err := c.do(ctx, "GET", path, nil, nil)
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

// Tunnel carries one connection to a port of one's own workspace, until either
// end closes it.
func (c *Client) Tunnel(ctx context.Context, ref string, port int, conn net.Conn) error {
	header := http.Header{}
	if c.token != "" {
		header.Set("Authorization", "Bearer "+c.token)
	}
	ws, res, err := websocket.DefaultDialer.DialContext(ctx, "ws"+strings.TrimPrefix(c.address, "http")+"/api/v1"+workspace(ref, "/ports/"+strconv.Itoa(port)+"/tunnel"), header)
	if err != nil {
		if res != nil && res.StatusCode >= 400 {
			return readProblem(res)
		}
		return &Unreachable{c.address, err}
	}
	defer ws.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close(); ws.Close() })
	defer stop()
	go func() {
		buf := make([]byte, 32<<10)
		for {
			n, err := conn.Read(buf)
			if n > 0 && ws.WriteMessage(websocket.BinaryMessage, buf[:n]) != nil {
				return
			}
			if err != nil {
				_ = ws.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(websocket.CloseNormalClosure, ""), time.Now().Add(5*time.Second)) // it may be gone
				return
			}
		}
	}()
	for {
		_, p, err := ws.ReadMessage()
		if e, ok := err.(*websocket.CloseError); ok && e.Code == 4000 {
			return &wire.Problem{Status: http.StatusConflict, Title: "Conflict", Detail: e.Text}
		}
		if err != nil {
			return nil // the connection's end
		}
		if _, err := conn.Write(p); err != nil {
			return nil
		}
	}
}
