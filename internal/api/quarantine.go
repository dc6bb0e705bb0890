package api

import (
	"context"
	"net/http"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

// StrayPath names what the yard has of a workspace that no record knows.
type StrayPath struct {
	Stray string `path:"stray" maxLength:"64" doc:"The id that its files carry"`
}

func quarantineRoutes(a *API) {
	q := a.svc.Quarantine
	list(a, op("GET", "/quarantine", "list-quarantine", "List what the yard has of workspaces that no record knows", policy.AdoptContainers), strayKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.Stray, error) { return q.List(ctx, who) })
	answer(a, op("GET", "/quarantine/{stray}", "show-quarantined", "Show what the yard has of one", policy.AdoptContainers),
		func(ctx context.Context, who service.Actor, in *StrayPath) (wire.Stray, error) {
			all, err := q.List(ctx, who)
			return service.One(all, err, func(v wire.Stray) bool { return v.ID == in.Stray }, "workspace without a record", in.Stray)
		})
	give := op("POST", "/quarantine/{stray}/give", "give-quarantined", "Make it somebody's workspace, stopped, with its files", policy.AdoptContainers)
	give.DefaultStatus = http.StatusAccepted
	made(a, give, workspacePlace, a.svc.Workspaces.Made, func(ctx context.Context, who service.Actor, in *struct {
		StrayPath
		Body wire.GiveStray
	}) (wire.Workspace, error) {
		return q.Give(ctx, who, in.Stray, in.Body)
	})
	answer(a, op("PUT", "/quarantine/{stray}/kept", "keep-quarantined", "Have it stay where it is", policy.AdoptContainers),
		func(ctx context.Context, who service.Actor, in *struct {
			StrayPath
			Body wire.KeepStray
		}) (wire.Stray, error) {
			return q.Keep(ctx, who, in.Stray, in.Body)
		})
	done(a, op("DELETE", "/quarantine/{stray}", "remove-quarantined", "Take it out of the yard, its files too", policy.AdoptContainers),
		func(ctx context.Context, who service.Actor, in *StrayPath) error { return q.Remove(ctx, who, in.Stray) })
}
