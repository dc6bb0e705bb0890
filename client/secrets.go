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

// List lists one's own secrets, or those of a repository.
func (c Secrets) List(ctx context.Context, of string) ([]wire.Secret, error) {
	return all[wire.Secret](ctx, c.link, secrets(of, ""))
}

// Put sets one of one's own secrets, or of a repository's.
func (c Secrets) Put(ctx context.Context, of, name string, in wire.SecretValue) (wire.Secret, error) {
	return call[wire.Secret](ctx, c.link, "PUT", secrets(of, name), in)
}

// Drop removes one of one's own secrets, or of a repository's.
func (c Secrets) Drop(ctx context.Context, of, name string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", secrets(of, name), nil)
	return err
}

// Explain says what becomes of each secret in a repository's workspaces.
func (c Secrets) Explain(ctx context.Context, of string) ([]wire.SecretChoice, error) {
	return all[wire.SecretChoice](ctx, c.link, repository(of, "/secrets-explained"))
}
