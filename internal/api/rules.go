package api

import (
	"context"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/internal/wire"
)

func rulesRoutes(a *API) {
	s := a.svc
	answer(a, op("GET", "/rules", "list-rules", "Every version of the house rules, the newest first", policy.SeeRules),
		func(ctx context.Context, who service.Actor, _ *none) ([]wire.Rules, error) {
			return s.HouseRules.Rules(ctx, who)
		})
	answer(a, op("POST", "/rules/check", "check-rules", "What is wrong with a document, and what it would change", policy.SeeRules),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.RulesText }) (wire.RulesCheck, error) {
			return s.HouseRules.CheckRules(ctx, who, in.Body.Document)
		})
	answer(a, op("PUT", "/rules", "put-rules", "Make a document the house rules: in force at once", policy.ChangeRules),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.RulesText }) (wire.Rules, error) {
			return s.HouseRules.PutRules(ctx, who, in.Body)
		})
}
