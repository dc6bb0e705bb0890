package client

import (
	"context"

	"yardbench/wire"
)

// Show tells what serves languages and debugs in a workspace, and how its editor writes.
func (b Bench) Show(ctx context.Context, ref string) (wire.Bench, error) {
	return call[wire.Bench](ctx, b.link, "GET", workspace(ref, "/bench"), nil)
}
