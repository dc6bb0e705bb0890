package client

import (
	"context"
	"net/url"

	"yardbench/wire"
)

// Doors tells how people sign in to the service.
func (c Self) Doors(ctx context.Context) (wire.SignInDoors, error) {
	return call[wire.SignInDoors](ctx, c.link, "GET", "/sign-in", nil)
}

// DeviceRequest shows which program waits with a code to be let in.
func (c Self) DeviceRequest(ctx context.Context, code string) (wire.DeviceRequest, error) {
	return call[wire.DeviceRequest](ctx, c.link, "GET", "/device-requests/"+url.PathEscape(code), nil)
}

// AnswerDevice lets a program in that waits with a code, or not.
func (c Self) AnswerDevice(ctx context.Context, code string, allow bool) error {
	_, err := call[nothing](ctx, c.link, "POST", "/device-requests/"+url.PathEscape(code)+"/answer", wire.DeviceAnswer{Allow: allow})
	return err
}

// List lists the identity providers by which people sign in.
func (c Providers) List(ctx context.Context) ([]wire.Provider, error) {
	return all[wire.Provider](ctx, c.link, "/providers")
}

// Put has people sign in by an identity provider, or changes how.
func (c Providers) Put(ctx context.Context, name string, in wire.PutProvider) (wire.Provider, error) {
	return call[wire.Provider](ctx, c.link, "PUT", "/providers/"+url.PathEscape(name), in)
}

// Drop removes one; whoever is signed in by it is not any more.
func (c Providers) Drop(ctx context.Context, name string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", "/providers/"+url.PathEscape(name), nil)
	return err
}
