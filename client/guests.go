package client

import (
	"context"
	"net/url"

	"yardbench/wire"
)

// List lists those whose access ends by itself, of one's team.
func (c Guests) List(ctx context.Context) ([]wire.Guest, error) {
	return all[wire.Guest](ctx, c.link, "/guests")
}

// Invite makes a link by which somebody sets up an account that ends by itself.
func (c Guests) Invite(ctx context.Context, in wire.NewGuest) (wire.Enrolment, error) {
	return call[wire.Enrolment](ctx, c.link, "POST", "/guests", in)
}

// Change changes a guest's access.
func (c Guests) Change(ctx context.Context, name string, in wire.GuestChange) (wire.Guest, error) {
	return call[wire.Guest](ctx, c.link, "PATCH", "/guests/"+url.PathEscape(name), in)
}

// End ends a guest's access now.
func (c Guests) End(ctx context.Context, name string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", "/guests/"+url.PathEscape(name), nil)
	return err
}
