package api

import (
	"context"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

func sealingRoutes(a *API) {
	s := a.svc.Sealing
	list(a, op("GET", "/sealing-keys", "list-sealing-keys", "List the keys that everything secret in the records is sealed with, or was", policy.ChangeKeys), sealingKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.SealingKey, error) {
			return s.List(ctx, who)
		})
	answer(a, op("GET", "/sealing-keys/{key}", "show-sealing-key", "Show one", policy.ChangeKeys),
		func(ctx context.Context, who service.Actor, in *struct {
			Key string `path:"key" maxLength:"8"`
		}) (wire.SealingKey, error) {
			all, err := s.List(ctx, who)
			return service.One(all, err, func(v wire.SealingKey) bool { return v.ID == in.Key }, "sealing key", in.Key)
		})
	made(a, op("POST", "/sealing-keys", "make-sealing-key", "Make another key; what older ones sealed is sealed anew, and they are retired", policy.ChangeKeys),
		func(v wire.SealingKey) string { return "/sealing-keys/" + v.ID }, nil,
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.NewSealingKey }) (wire.SealingKey, error) {
			return s.Rotate(ctx, who, in.Body)
		})
}
