package client

import (
	"context"

	"yardbench/wire"
)

// List lists the keys that everything secret in the records is sealed with, or was.
func (c SealingKeys) List(ctx context.Context) ([]wire.SealingKey, error) {
	return all[wire.SealingKey](ctx, c.link, "/sealing-keys")
}

// Make makes another.
func (c SealingKeys) Make(ctx context.Context, in wire.NewSealingKey) (wire.SealingKey, error) {
	return call[wire.SealingKey](ctx, c.link, "POST", "/sealing-keys", in)
}
