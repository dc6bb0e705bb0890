package api

import (
	"context"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

// LookIn says who looks at which terminal.
type LookIn struct {
	Workspace
	Label  string `path:"label" maxLength:"32" doc:"The terminal's"`
	Person string `path:"person" maxLength:"40"`
}

// terminalRoutes are which terminals there are, and who may look at them.
func terminalRoutes(a *API) {
	s := a.svc.Sessions
	list(a, op("GET", "/workspaces/{workspace}/terminals", "list-terminals", "List the terminals that are open, with who is at them", policy.UseWorkspace), terminalKind,
		func(ctx context.Context, who service.Actor, in *WorkspacePage) ([]wire.Terminal, error) {
			return s.Terminals(ctx, who, in.Ref)
		})
	list(a, op("GET", "/workspaces/{workspace}/looks", "list-looks", "List who may look at terminals of yours", policy.UseWorkspace), lookKind,
		func(ctx context.Context, who service.Actor, in *WorkspacePage) ([]wire.Look, error) {
			return s.Looks(ctx, who, in.Ref)
		})
	list(a, op("GET", "/me/looks", "list-own-looks", "List the terminals of others that you may look at", policy.SeeSelf), lookKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.Look, error) { return s.LooksOf(ctx, who) })
	recordingRoutes(a)
	answer(a, op("GET", "/workspaces/{workspace}/first-line", "show-first-line", "Show what each new terminal runs first", policy.UseWorkspace),
		func(ctx context.Context, who service.Actor, in *Workspace) (wire.FirstLine, error) {
			return s.FirstLine(ctx, who, in.Ref)
		})
	answer(a, op("PUT", "/workspaces/{workspace}/first-line", "put-first-line", "Say what each new terminal runs first", policy.UseWorkspace),
		func(ctx context.Context, who service.Actor, in *struct {
			Workspace
			Body wire.NewFirstLine
		}) (wire.FirstLine, error) {
			return s.SetFirstLine(ctx, who, in.Ref, in.Body)
		})
	answer(a, op("PUT", "/workspaces/{workspace}/terminals/{label}/looks/{person}", "allow-look", "Let a colleague look at a terminal for a time, or type into it", policy.UseWorkspace),
		func(ctx context.Context, who service.Actor, in *struct {
			LookIn
			Body wire.AllowLook
		}) (wire.Look, error) {
			return s.AllowLook(ctx, who, in.Ref, in.Label, in.Person, in.Body)
		})
	done(a, op("DELETE", "/workspaces/{workspace}/terminals/{label}/looks/{person}", "end-look", "Let a colleague look no more", policy.UseWorkspace),
		func(ctx context.Context, who service.Actor, in *LookIn) error {
			return s.EndLook(ctx, who, in.Ref, in.Label, in.Person)
		})
}
