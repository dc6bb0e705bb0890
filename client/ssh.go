package client

import (
	"context"
	"net/url"

	"yardbench/wire"
)

// SSHDoor tells where the door of SSH is, and by which key it is known.
func (c Self) SSHDoor(ctx context.Context) (wire.SSHDoor, error) {
	return call[wire.SSHDoor](ctx, c.link, "GET", "/ssh", nil)
}

// Keys lists the public keys that let one in by SSH.
func (c Self) Keys(ctx context.Context) ([]wire.SSHKey, error) {
	return all[wire.SSHKey](ctx, c.link, "/ssh/keys")
}

// AddKey lets one in by a public key.
func (c Self) AddKey(ctx context.Context, in wire.NewSSHKey) (wire.SSHKey, error) {
	return call[wire.SSHKey](ctx, c.link, "POST", "/ssh/keys", in)
}

// RemoveKey lets one in by a key no more.
func (c Self) RemoveKey(ctx context.Context, id string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", "/ssh/keys/"+url.PathEscape(id), nil)
	return err
}

// Certify has a public key signed, to come in by SSH for a short time.
func (c Self) Certify(ctx context.Context, in wire.NewSSHCertificate) (wire.SSHCertificate, error) {
	return call[wire.SSHCertificate](ctx, c.link, "PUT", "/ssh/certificate", in)
}
