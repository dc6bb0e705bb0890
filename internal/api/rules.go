package api

import (
	"context"
	"net/http"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

func rulesRoutes(a *API) {
	s := a.svc
	parts(a, op("GET", "/rules", "list-rules", "List the versions of the house rules, the newest first", policy.SeeRules), []string{"version"},
		func(ctx context.Context, who service.Actor, in *Page) (service.Part[wire.RulesVersion], error) {
			return s.HouseRules.Rules(ctx, who, in.ask())
		})
	answer(a, op("GET", "/rules/{version}", "show-rules", "Show a version of the house rules with its document", policy.SeeRules),
		func(ctx context.Context, who service.Actor, in *struct {
			Version int `path:"version" minimum:"0" doc:"Its number; 0 is the one in force"`
		}) (wire.Rules, error) {
			return s.HouseRules.Version(ctx, who, in.Version)
		})
	answer(a, op("POST", "/rules/check", "check-rules", "What is wrong with a document, and what it would change", policy.SeeRules),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.RulesText }) (wire.RulesCheck, error) {
			return s.HouseRules.CheckRules(ctx, who, in.Body.Document)
		})
	answer(a, matching(op("PUT", "/rules", "put-rules", "Make a document the house rules: in force at once", policy.ChangeRules)),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.RulesText }) (wire.Rules, error) {
			if !service.Matched(ctx) {
				return wire.Rules{}, &wire.Problem{Type: "urn:yardbench:problem:match-wanted", Title: http.StatusText(http.StatusPreconditionRequired), Status: http.StatusPreconditionRequired,
					Detail: "it is not said from which version these house rules were made", Next: "send the ETag of that version as If-Match"}
			}
			return s.HouseRules.PutRules(ctx, who, in.Body)
		})
}
