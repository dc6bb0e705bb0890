package api

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"yardbench/internal/core/page"
	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

var operationKind = page.Kind[wire.Operation]{ID: func(v wire.Operation) string { return v.ID }, Usual: "-made_at", Orders: []page.Order[wire.Operation]{
	{Name: "made_at", Key: func(v wire.Operation) string { return moment(v.MadeAt) }},
	{Name: "verb", Key: func(v wire.Operation) string { return v.Verb }},
}}

// operationRoutes are one verb for many workspaces, and what came of it.
func operationRoutes(a *API) {
	s := a.svc
	type OperationPath struct {
		Operation string `path:"operation" maxLength:"64"`
	}
	list(a, op("GET", "/operations", "list-operations", "List the operations you may see: one verb for many workspaces", policy.SeeWorkspace), operationKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.Operation, error) {
			return s.Operations.List(ctx, who)
		})
	ask := op("POST", "/operations", "ask-operation", "Ask one verb of many workspaces; it is accepted, and done after the answer, a few at a time", policy.Operate)
	ask.DefaultStatus = http.StatusAccepted
	made(a, ask, func(v wire.Operation) string { return "/operations/" + url.PathEscape(v.ID) }, s.Operations.Show,
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.NewOperation }) (wire.Operation, error) {
			return s.Operations.Make(ctx, who, in.Body)
		})
	answer(a, op("GET", "/operations/{operation}", "show-operation", "Show an operation", policy.SeeWorkspace),
		func(ctx context.Context, who service.Actor, in *OperationPath) (wire.Operation, error) {
			return s.Operations.Show(ctx, who, in.Operation)
		})
	parts(a, op("GET", "/operations/{operation}/outcomes", "list-outcomes", "List how an operation stands with each workspace", policy.SeeWorkspace), service.OutcomeOrders,
		func(ctx context.Context, who service.Actor, in *struct {
			OperationPath
			Page
			State []string `query:"state,explode" maxItems:"10" enum:"waiting,under way,done,failed,refused,cancelled"`
		}) (service.Part[wire.Outcome], error) {
			return s.Operations.Outcomes(ctx, who, in.Operation, in.State, in.ask())
		})
	answer(a, op("GET", "/operations/{operation}/outcomes/{number}", "show-outcome", "Show how an operation stands with one workspace", policy.SeeWorkspace),
		func(ctx context.Context, who service.Actor, in *struct {
			OperationPath
			Number int `path:"number" minimum:"1"`
		}) (wire.Outcome, error) {
			all, err := s.Operations.Outcomes(ctx, who, in.Operation, nil, page.Ask{})
			return service.One(all.Items, err, func(v wire.Outcome) bool { return v.Number == in.Number }, "outcome", strconv.Itoa(in.Number))
		})
	answer(a, op("POST", "/operations/{operation}/cancel", "cancel-operation", "Leave those alone whose turn has not come", policy.Operate),
		func(ctx context.Context, who service.Actor, in *OperationPath) (wire.Operation, error) {
			return s.Operations.Cancel(ctx, who, in.Operation)
		})
}

// stayRoutes are what keeps a workspace as it is for a time, or says something of it:
// holds, leases, notices.
func stayRoutes(a *API) {
	s := a.svc
	answer(a, keyed(op("POST", "/workspaces/{workspace}/lease", renewing, "Say that you still need a workspace that is for one command; a minute without a word, and it goes", policy.DriveWorkspace)),
		func(ctx context.Context, who service.Actor, in *Workspace) (wire.Errand, error) {
			return s.Workspaces.RenewErrand(ctx, who, in.Ref)
		})
	done(a, op("DELETE", "/workspaces/{workspace}/notice", "heed-notice", "Take away a notice that was put before you, read", policy.UseWorkspace),
		func(ctx context.Context, who service.Actor, in *Workspace) error {
			return s.Workspaces.Heed(ctx, who, in.Ref)
		})
	answer(a, op("PUT", "/workspaces/{workspace}/push", "allow-push", "Let what is in a workspace push for a quarter of an hour, where the house rules have pushes confirmed", policy.UseWorkspace),
		func(ctx context.Context, who service.Actor, in *Workspace) (wire.Workspace, error) {
			return s.Workspaces.AllowPush(ctx, who, in.Ref, true)
		})
	done(a, op("DELETE", "/workspaces/{workspace}/push", "refuse-push", "Let nothing in a workspace push, where the house rules have pushes confirmed", policy.UseWorkspace),
		func(ctx context.Context, who service.Actor, in *Workspace) error {
			_, err := s.Workspaces.AllowPush(ctx, who, in.Ref, false)
			return err
		})
	answer(a, op("PUT", "/workspaces/{workspace}/hold", "hold-workspace", "Keep a workspace from being put to rest for a time", policy.DriveWorkspace),
		func(ctx context.Context, who service.Actor, in *struct {
			Workspace
			Body wire.Hold
		}) (wire.Workspace, error) {
			return s.Workspaces.Hold(ctx, who, in.Ref, in.Body)
		})
	done(a, op("DELETE", "/workspaces/{workspace}/hold", "end-hold", "Let a workspace be put to rest again", policy.DriveWorkspace),
		func(ctx context.Context, who service.Actor, in *Workspace) error {
			_, err := s.Workspaces.EndHold(ctx, who, in.Ref)
			return err
		})
}
