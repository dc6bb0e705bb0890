package client

import (
	"context"
	"net/url"

	"yardbench/wire"
)

// SecretsOf says whose secrets are meant: a repository's, a team's or the house's;
// one's own where it is empty.
type SecretsOf struct {
	Repository, Team string
	House            bool
}

// path is where secrets are, and one of them.
func (of SecretsOf) path(name string) string {
	path := "/secrets"
	switch {
	case of.Repository != "":
		path = repository(of.Repository, path)
	case of.Team != "":
		path = "/teams/" + url.PathEscape(of.Team) + path
	case of.House:
		path = "/house" + path
	}
	if name != "" {
		path += "/" + url.PathEscape(name)
	}
	return path
}

// List lists secrets; values are never given out.
func (c Secrets) List(ctx context.Context, of SecretsOf) ([]wire.Secret, error) {
	return all[wire.Secret](ctx, c.link, of.path(""))
}

// Put sets a secret.
func (c Secrets) Put(ctx context.Context, of SecretsOf, name string, in wire.SecretValue) (wire.Secret, error) {
	return call[wire.Secret](ctx, c.link, "PUT", of.path(name), in)
}

// Drop removes a secret.
func (c Secrets) Drop(ctx context.Context, of SecretsOf, name string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", of.path(name), nil)
	return err
}

// Explain says what becomes of each secret in one's workspaces on a branch of a
// repository; of one name, where it is given.
func (c Secrets) Explain(ctx context.Context, of, branch, name string) ([]wire.SecretChoice, error) {
	return all[wire.SecretChoice](ctx, c.link, repository(of, "/secrets-explained")+"?"+url.Values{"branch": {branch}, "name": {name}}.Encode())
}

// Renew begins anew what a workspace's definition has left running at its start.
func (c Secrets) Renew(ctx context.Context, ref string) (wire.Renewal, error) {
	return call[wire.Renewal](ctx, c.link, "POST", workspace(ref, "/renewals"), nil)
}

// ExplainIn says what becomes of each secret in a workspace, and what runs there with
// an older value.
func (c Secrets) ExplainIn(ctx context.Context, ref, name string) ([]wire.SecretChoice, error) {
	return all[wire.SecretChoice](ctx, c.link, workspace(ref, "/secrets-explained")+"?"+url.Values{"name": {name}}.Encode())
}
