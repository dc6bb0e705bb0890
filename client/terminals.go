package client

import (
	"context"
	"net/url"

	"yardbench/wire"
)

// Terminals lists the terminals that are open in a workspace, with who is at them.
func (c Workspaces) Terminals(ctx context.Context, ref string) ([]wire.Terminal, error) {
	return all[wire.Terminal](ctx, c.link, workspace(ref, "/terminals"))
}

// Looks lists who may look at terminals of a workspace of one's own.
func (c Workspaces) Looks(ctx context.Context, ref string) ([]wire.Look, error) {
	return all[wire.Look](ctx, c.link, workspace(ref, "/looks"))
}

func look(ref, label, person string) string {
	return workspace(ref, "/terminals/"+url.PathEscape(label)+"/looks/"+url.PathEscape(person))
}

// AllowLook lets a colleague look at a terminal for a time, or type into it.
func (c Workspaces) AllowLook(ctx context.Context, ref, label, person string, in wire.AllowLook) (wire.Look, error) {
	return call[wire.Look](ctx, c.link, "PUT", look(ref, label, person), in)
}

// EndLook lets a colleague look no more.
func (c Workspaces) EndLook(ctx context.Context, ref, label, person string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", look(ref, label, person), nil)
	return err
}

// Looks lists the terminals of others that one may look at.
func (c Self) Looks(ctx context.Context) ([]wire.Look, error) {
	return all[wire.Look](ctx, c.link, "/me/looks")
}

// FirstLine is what each new terminal of a workspace runs first.
func (c Workspaces) FirstLine(ctx context.Context, ref string) (wire.FirstLine, error) {
	return call[wire.FirstLine](ctx, c.link, "GET", workspace(ref, "/first-line"), nil)
}

// SetFirstLine says what each new terminal of a workspace runs first.
func (c Workspaces) SetFirstLine(ctx context.Context, ref string, in wire.NewFirstLine) (wire.FirstLine, error) {
	return call[wire.FirstLine](ctx, c.link, "PUT", workspace(ref, "/first-line"), in)
}
