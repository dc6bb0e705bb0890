package client

import (
	"context"
	"net/url"

	"yardbench/wire"
)

func stray(id, rest string) string { return "/quarantine/" + url.PathEscape(id) + rest }

// List tells what the yard has of workspaces that no record knows.
func (c Quarantine) List(ctx context.Context) ([]wire.Stray, error) {
	return all[wire.Stray](ctx, c.link, "/quarantine")
}

// Give makes one somebody's workspace.
func (c Quarantine) Give(ctx context.Context, id string, in wire.GiveStray) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c.link, "POST", stray(id, "/give"), in)
}

// Keep has one stay where it is.
func (c Quarantine) Keep(ctx context.Context, id, reason string) (wire.Stray, error) {
	return call[wire.Stray](ctx, c.link, "PUT", stray(id, "/kept"), wire.KeepStray{Reason: reason})
}

// Remove takes one out of the yard, its files too.
func (c Quarantine) Remove(ctx context.Context, id string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", stray(id, ""), nil)
	return err
}
