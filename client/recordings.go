package client

import (
	"context"
	"io"
	"net/url"

	"yardbench/wire"
)

func recording(id, more string) string { return "/recordings/" + url.PathEscape(id) + more }

// List lists the recordings that one may see, the newest first.
func (c Recordings) List(ctx context.Context) ([]wire.Recording, error) {
	return all[wire.Recording](ctx, c.link, "/recordings")
}

// Show is one of them.
func (c Recordings) Show(ctx context.Context, id string) (wire.Recording, error) {
	return call[wire.Recording](ctx, c.link, "GET", recording(id, ""), nil)
}

// Begin records a terminal of one's own from now on.
func (c Recordings) Begin(ctx context.Context, in wire.NewRecording) (wire.Recording, error) {
	return call[wire.Recording](ctx, c.link, "POST", "/recordings", in)
}

// End ends one that was asked for.
func (c Recordings) End(ctx context.Context, id string) (wire.Recording, error) {
	return call[wire.Recording](ctx, c.link, "POST", recording(id, "/end"), nil)
}

// Remove removes one that was asked for, and has ended.
func (c Recordings) Remove(ctx context.Context, id string) error {
	_, err := call[struct{}](ctx, c.link, "DELETE", recording(id, ""), nil)
	return err
}

// Read copies what one holds to w: a file in the format asciicast, version 2.
func (c Recordings) Read(ctx context.Context, id string, w io.Writer) error {
	res, err := c.pass(ctx, "GET", recording(id, "/content"), nil, nil)
	return drain(ctx, res, err, w)
}
