package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"yardbench/wire"
)

// Health tells how the service is.
func (c *Client) Health(ctx context.Context) (wire.Health, error) {
	return call[wire.Health](ctx, c.link, "GET", "/health", nil)
}

// Show is a version of the house rules with its document; 0 is the one in force.
func (c Rules) Show(ctx context.Context, version int) (wire.Rules, error) {
	return call[wire.Rules](ctx, c.link, "GET", "/rules/"+strconv.Itoa(version), nil)
}

// List lists the versions of the house rules, the newest first.
func (c Rules) List(ctx context.Context) ([]wire.RulesVersion, error) {
	return all[wire.RulesVersion](ctx, c.link, "/rules")
}

// Check says what is wrong with a document, and what it would change.
func (c Rules) Check(ctx context.Context, document string) (wire.RulesCheck, error) {
	return call[wire.RulesCheck](ctx, c.link, "POST", "/rules/check", wire.RulesText{Document: document})
}

// Put makes a document the house rules, which was made from a version of
// them: refused where there is a newer one.
func (c Rules) Put(ctx context.Context, in wire.RulesText, base int) (wire.Rules, error) {
	return send[wire.Rules](ctx, c.link, "PUT", "/rules", in, http.Header{"If-Match": {`"` + wire.RulesVersion{Version: base}.Tag() + `"`}})
}

// CostQuery says what is to be reported; empty fields are the usual.
type CostQuery struct{ By, From, To, Team, Person, Repository, Workspace string }

func (q CostQuery) encode() string {
	v := url.Values{}
	for k, s := range map[string]string{"by": q.By, "from": q.From, "to": q.To, "team": q.Team, "person": q.Person, "repository": q.Repository, "workspace": q.Workspace} {
		if s != "" {
			v.Set(k, s)
		}
	}
	return v.Encode()
}

// Report tells what was used, and what it cost.
func (c Costs) Report(ctx context.Context, q CostQuery) (wire.Cost, error) {
	return call[wire.Cost](ctx, c.link, "GET", "/cost?"+q.encode(), nil)
}

// CSV writes the same as comma-separated values.
func (c Costs) CSV(ctx context.Context, q CostQuery, w io.Writer) error {
	return c.copyText(ctx, "/cost.csv?"+q.encode(), w)
}

// Openings lists what of the installation is open.
func (c *Client) Openings(ctx context.Context) ([]wire.Opening, error) {
	return all[wire.Opening](ctx, c.link, "/openings")
}
