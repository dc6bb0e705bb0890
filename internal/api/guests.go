package api

import (
	"context"
	"net/url"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

func guestRoutes(a *API) {
	s := a.svc.Guests
	list(a, op("GET", "/guests", "list-guests", "List those whose access ends by itself, of your team", policy.ChangeGuests), guestKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.Guest, error) { return s.List(ctx, who) })
	answer(a, op("GET", "/guests/{person}", "show-guest", "Show somebody whose access ends by itself", policy.ChangeGuests),
		func(ctx context.Context, who service.Actor, in *PersonPath) (wire.Guest, error) {
			return s.Show(ctx, who, in.Person)
		})
	made(a, op("POST", "/guests", "invite-guest", "Make a link by which somebody sets up an account that ends by itself", policy.ChangeGuests),
		func(v wire.Enrolment) string { return "/enrolments/" + url.PathEscape(v.ID) }, nil,
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.NewGuest }) (wire.Enrolment, error) {
			return s.Invite(ctx, who, in.Body)
		})
	answer(a, op("PATCH", "/guests/{person}", "change-guest", "Have a guest's access last longer or shorter, or be for other repositories or sizes", policy.ChangeGuests),
		func(ctx context.Context, who service.Actor, in *struct {
			PersonPath
			Body wire.GuestChange
		}) (wire.Guest, error) {
			return s.Change(ctx, who, in.Person, in.Body)
		})
	done(a, op("DELETE", "/guests/{person}", "end-guest", "End a guest's access now: their workspaces are stopped and kept", policy.ChangeGuests),
		func(ctx context.Context, who service.Actor, in *PersonPath) error {
			return s.End(ctx, who, in.Person)
		})
}
