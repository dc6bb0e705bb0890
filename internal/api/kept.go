package api

import (
	"context"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

// keptRoutes are what people like.
func keptRoutes(a *API) {
	s := a.svc.Tastes
	type KeptPath struct {
		Name string `path:"name" maxLength:"120"`
	}
	list(a, op("GET", "/kept", "list-kept", "List what is kept for you", policy.SeeSelf), keptKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.Kept, error) { return s.List(ctx, who) })
	answer(a, op("GET", "/kept/{name}", "show-kept", "Show one thing that is kept for you", policy.SeeSelf),
		func(ctx context.Context, who service.Actor, in *KeptPath) (wire.Kept, error) {
			all, err := s.List(ctx, who)
			return service.One(all, err, func(v wire.Kept) bool { return v.Name == in.Name }, "kept thing", in.Name)
		})
	done(a, op("PUT", "/kept/{name}", "keep", "Keep something you like under a name, in place of what was there", policy.ChangeSelf),
		func(ctx context.Context, who service.Actor, in *struct {
			KeptPath
			Body wire.KeepValue
		}) error {
			return s.Keep(ctx, who, in.Name, in.Body.Value)
		})
	done(a, op("DELETE", "/kept/{name}", "forget-kept", "Forget something that is kept for you", policy.ChangeSelf),
		func(ctx context.Context, who service.Actor, in *KeptPath) error { return s.Forget(ctx, who, in.Name) })
}
