package client

import (
	"context"
	"net/url"

	"yardbench/wire"
)

func operation(id, rest string) string { return "/operations/" + url.PathEscape(id) + rest }

// Ask asks one verb of many workspaces.
func (c Operations) Ask(ctx context.Context, in wire.NewOperation) (wire.Operation, error) {
	return call[wire.Operation](ctx, c.link, "POST", "/operations", in)
}

// List lists operations, the newest first.
func (c Operations) List(ctx context.Context) ([]wire.Operation, error) {
	return all[wire.Operation](ctx, c.link, "/operations")
}

// Show tells of one operation.
func (c Operations) Show(ctx context.Context, id string) (wire.Operation, error) {
	return call[wire.Operation](ctx, c.link, "GET", operation(id, ""), nil)
}

// Outcomes lists how an operation stands with each workspace; those in one of some
// states, if there are any.
func (c Operations) Outcomes(ctx context.Context, id string, states ...string) ([]wire.Outcome, error) {
	return all[wire.Outcome](ctx, c.link, operation(id, "/outcomes?"+url.Values{"state": states}.Encode()))
}

// Cancel leaves those alone whose turn has not come.
func (c Operations) Cancel(ctx context.Context, id string) (wire.Operation, error) {
	return call[wire.Operation](ctx, c.link, "POST", operation(id, "/cancel"), nil)
}

// AllowPush lets what is in a workspace push for a quarter of an hour.
func (c Workspaces) AllowPush(ctx context.Context, ref string) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c.link, "PUT", workspace(ref, "/push"), nil)
}

// RefusePush lets nothing in a workspace push.
func (c Workspaces) RefusePush(ctx context.Context, ref string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", workspace(ref, "/push"), nil)
	return err
}

// Heed takes away a notice at a workspace, read.
func (c Workspaces) Heed(ctx context.Context, ref string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", workspace(ref, "/notice"), nil)
	return err
}
