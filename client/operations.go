package client

import (
	"context"
	"net/url"

	"yardbench/wire"
)

func operation(id, rest string) string { return "/operations/" + url.PathEscape(id) + rest }

// AskOperation asks one verb of many workspaces.
func (c *Client) AskOperation(ctx context.Context, in wire.NewOperation) (wire.Operation, error) {
	return call[wire.Operation](ctx, c, "POST", "/operations", in)
}

// Operations lists operations, the newest first.
func (c *Client) Operations(ctx context.Context) ([]wire.Operation, error) {
	return all[wire.Operation](ctx, c, "/operations")
}

// Operation tells of one operation.
func (c *Client) Operation(ctx context.Context, id string) (wire.Operation, error) {
	return call[wire.Operation](ctx, c, "GET", operation(id, ""), nil)
}

// Outcomes lists how an operation stands with each workspace; those in one of some
// states, if there are any.
func (c *Client) Outcomes(ctx context.Context, id string, states ...string) ([]wire.Outcome, error) {
	return all[wire.Outcome](ctx, c, operation(id, "/outcomes?"+url.Values{"state": states}.Encode()))
}

// CancelOperation leaves those alone whose turn has not come.
func (c *Client) CancelOperation(ctx context.Context, id string) (wire.Operation, error) {
	return call[wire.Operation](ctx, c, "POST", operation(id, "/cancel"), nil)
}

// HeedNotice takes away a notice at a workspace, read.
func (c *Client) HeedNotice(ctx context.Context, ref string) error {
	_, err := call[nothing](ctx, c, "DELETE", workspace(ref, "/notice"), nil)
	return err
}
