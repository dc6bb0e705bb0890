package client

import (
	"context"
	"net/url"

	"yardbench/wire"
)

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
	return all[wire.Secret](ctx, c, secrets(of, ""))
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
	return all[wire.SecretChoice](ctx, c, repository(of, "/secrets-explained"))
}
