package client

import (
	"context"
	"net/url"
	"strconv"

	"yardbench/wire"
)

// List lists the ports of a workspace; with wake one that is stopped is started, if the
// house rules let that be.
func (c Ports) List(ctx context.Context, ref string, wake bool) ([]wire.Port, error) {
	path := workspace(ref, "/ports")
	if wake {
		path += "?wake=true"
	}
	return all[wire.Port](ctx, c.link, path)
}

// Show is one of the ports of a workspace.
func (c Ports) Show(ctx context.Context, ref string, port int) (wire.Port, error) {
	return call[wire.Port](ctx, c.link, "GET", workspace(ref, "/ports/"+strconv.Itoa(port)), nil)
}

// Share says who may visit a port.
func (c Ports) Share(ctx context.Context, ref string, port int, in wire.PortChange) (wire.Port, error) {
	return call[wire.Port](ctx, c.link, "PUT", workspace(ref, "/ports/"+strconv.Itoa(port)), in)
}

// Visit gives the way to a port's address.
func (c Ports) Visit(ctx context.Context, address string) (wire.PortPass, error) {
	return call[wire.PortPass](ctx, c.link, "POST", "/port-passes", wire.PortVisit{Address: address})
}

// LookLinks lists the look links to ports of a workspace of one's own.
func (c Ports) LookLinks(ctx context.Context, ref string) ([]wire.LookLink, error) {
	return all[wire.LookLink](ctx, c.link, workspace(ref, "/look-links"))
}

// LookLink is one of them.
func (c Ports) LookLink(ctx context.Context, ref, id string) (wire.LookLink, error) {
	return call[wire.LookLink](ctx, c.link, "GET", workspace(ref, "/look-links/"+url.PathEscape(id)), nil)
}

// AddLookLink makes a link by which anybody who holds it visits a port.
func (c Ports) AddLookLink(ctx context.Context, ref string, in wire.NewLookLink) (wire.MadeLookLink, error) {
	return call[wire.MadeLookLink](ctx, c.link, "POST", workspace(ref, "/look-links"), in)
}

// EndLookLink ends a link, and every visit by it.
func (c Ports) EndLookLink(ctx context.Context, ref, id string) error {
	_, err := call[struct{}](ctx, c.link, "DELETE", workspace(ref, "/look-links/"+url.PathEscape(id)), nil)
	return err
}
