package api

import (
	"context"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

// attentionRoutes are what needs somebody.
func attentionRoutes(a *API) {
	s := a.svc.Attention
	type Path struct {
		ID string `path:"cause" maxLength:"20" doc:"Its id"`
	}
	list(a, op("GET", "/attention", "list-attention", "List what needs somebody, grouped by cause: what holds up most people for longest first", policy.SeeWorkspace), attentionKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.Attention, error) {
			return s.Attention(ctx, who)
		})
	answer(a, op("GET", "/attention/{cause}", "show-attention", "Show a cause: what has it, what the logs have in common, and what was changed before", policy.SeeWorkspace),
		func(ctx context.Context, who service.Actor, in *Path) (wire.AttentionCause, error) {
			return s.Cause(ctx, who, in.ID)
		})
	answer(a, op("PUT", "/attention/{cause}/quiet", "quiet-attention", "Have a cause need nobody for a time", policy.QuietAttention),
		func(ctx context.Context, who service.Actor, in *struct {
			Path
			Body wire.NewQuiet
		}) (wire.AttentionCause, error) {
			return s.Quiet(ctx, who, in.ID, in.Body)
		})
	done(a, op("DELETE", "/attention/{cause}/quiet", "end-quiet", "Have a quiet cause need somebody again", policy.QuietAttention),
		func(ctx context.Context, who service.Actor, in *Path) error { return s.Again(ctx, who, in.ID) })
}
