package client

import (
	"context"
	"net/url"

	"yardbench/wire"
)

// List lists the launch links that one may see, the newest first.
func (c LaunchLinks) List(ctx context.Context) ([]wire.LaunchLink, error) {
	return all[wire.LaunchLink](ctx, c.link, "/launch-links")
}

// Make makes one.
func (c LaunchLinks) Make(ctx context.Context, in wire.NewLaunchLink) (wire.LaunchLink, error) {
	return call[wire.LaunchLink](ctx, c.link, "POST", "/launch-links", in)
}

// Change changes who may use one, how many, until when, and whether at all.
func (c LaunchLinks) Change(ctx context.Context, id string, in wire.LaunchLinkChange) (wire.LaunchLink, error) {
	return call[wire.LaunchLink](ctx, c.link, "PATCH", "/launch-links/"+url.PathEscape(id), in)
}

// Drop withdraws one; the workspaces that came of it stay.
func (c LaunchLinks) Drop(ctx context.Context, id string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", "/launch-links/"+url.PathEscape(id), nil)
	return err
}

// Uses lists who came by one, the newest first.
func (c LaunchLinks) Uses(ctx context.Context, id string) ([]wire.LinkUse, error) {
	return all[wire.LinkUse](ctx, c.link, "/launch-links/"+url.PathEscape(id)+"/uses")
}

// Offer tells what one comes to for whoever asks.
func (c LaunchLinks) Offer(ctx context.Context, id string) (wire.LinkOffer, error) {
	return call[wire.LinkOffer](ctx, c.link, "GET", "/launch-links/"+url.PathEscape(id)+"/offer", nil)
}

// Use gives whoever asks a workspace of their own by one, or tells of the one they have.
func (c LaunchLinks) Use(ctx context.Context, id string) (wire.UsedLink, error) {
	return call[wire.UsedLink](ctx, c.link, "POST", "/launch-links/"+url.PathEscape(id)+"/use", nil)
}
