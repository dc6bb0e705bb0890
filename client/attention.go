package client

import (
	"context"
	"net/url"

	"yardbench/wire"
)

func cause(id, more string) string { return "/attention/" + url.PathEscape(id) + more }

// List lists what needs somebody, by cause: what holds up most people for longest first.
func (c Attention) List(ctx context.Context) ([]wire.Attention, error) {
	return all[wire.Attention](ctx, c.link, "/attention")
}

// Show is a cause with everything that has it.
func (c Attention) Show(ctx context.Context, id string) (wire.AttentionCause, error) {
	return call[wire.AttentionCause](ctx, c.link, "GET", cause(id, ""), nil)
}

// Quiet has a cause need nobody for a time.
func (c Attention) Quiet(ctx context.Context, id string, in wire.NewQuiet) (wire.AttentionCause, error) {
	return call[wire.AttentionCause](ctx, c.link, "PUT", cause(id, "/quiet"), in)
}

// Again has a quiet cause need somebody again.
func (c Attention) Again(ctx context.Context, id string) error {
	_, err := call[struct{}](ctx, c.link, "DELETE", cause(id, "/quiet"), nil)
	return err
}
