package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

const changesPath = "/workspaces/{workspace}/changes"

// CloneIn says which clone of which workspace.
type CloneIn struct {
	Workspace
	Folder string `query:"folder" maxLength:"4096" doc:"The clone's; without it the workspace's own"`
}

// heldAnswer registers an operation that may take long, for as long as whoever asks
// may use the workspace.
func heldAnswer[In any, Out any](a *API, o huma.Operation, ref func(*In) string, do func(ctx context.Context, who service.Actor, in *In) (Out, error)) {
	answer(a, o, func(ctx context.Context, who service.Actor, in *In) (out Out, err error) {
		ctx, release, err := a.svc.Leases.HoldWorkspace(ctx, who, ref(in))
		if err != nil {
			return out, err
		}
		defer release()
		return do(ctx, who, in)
	})
}

// ChangeIn is what is done with a workspace.
type ChangeIn[T any] struct {
	Workspace
	Body T
}

// changeRoutes are what is changed in the clones of workspaces.
func changeRoutes(a *API) {
	s := a.svc.Changes
	list(a, op("GET", changesPath, "list-changes", "List how each clone in a workspace stands, with the files that are changed", policy.UseWorkspace), changesKind,
		func(ctx context.Context, who service.Actor, in *WorkspacePage) ([]wire.Changes, error) {
			return s.List(ctx, who, in.Ref)
		})
	answer(a, op("GET", changesPath+"/difference", "show-difference", "Show how a file differs from what is staged, or what is staged of it from the newest commit", policy.UseWorkspace),
		func(ctx context.Context, who service.Actor, in *struct {
			CloneIn
			Path   string `query:"path" maxLength:"4096" doc:"From the clone's folder; bytes, percent-encoded"`
			Staged bool   `query:"staged"`
		}) (wire.Difference, error) {
			return s.Difference(ctx, who, in.Ref, in.Folder, in.Path, in.Staged)
		})
	for verb, summary := range map[string]string{
		service.Stage:   "Stage changes, of whole files or by hunks",
		service.Unstage: "Take changes out of what is staged",
		service.Discard: "Discard changes that are not staged: they are lost",
	} {
		heldAnswer(a, op("PUT", changesPath+"/"+verb, verb+"-changes", summary, policy.UseWorkspace), func(in *ChangeIn[wire.Choice]) string { return in.Ref },
			func(ctx context.Context, who service.Actor, in *ChangeIn[wire.Choice]) (wire.Changes, error) {
				return s.Choose(ctx, who, in.Ref, verb, in.Body)
			})
	}
	heldAnswer(a, op("PUT", changesPath+"/commit", "commit-changes", "Commit what is staged, as its owner", policy.UseWorkspace), func(in *ChangeIn[wire.NewCommit]) string { return in.Ref },
		func(ctx context.Context, who service.Actor, in *ChangeIn[wire.NewCommit]) (wire.Committed, error) {
			return s.Commit(ctx, who, in.Ref, in.Body)
		})
	list(a, op("GET", changesPath+"/branches", "list-branches", "List a clone's branches, with those of its remotes as they were fetched", policy.UseWorkspace), branchKind,
		func(ctx context.Context, who service.Actor, in *struct {
			CloneIn
			Page
		}) ([]wire.CloneBranch, error) {
			return s.Branches(ctx, who, in.Ref, in.Folder)
		})
	heldAnswer(a, op("PUT", changesPath+"/branch", "switch-branch", "Have another branch be out", policy.UseWorkspace), func(in *ChangeIn[wire.SwitchBranch]) string { return in.Ref },
		func(ctx context.Context, who service.Actor, in *ChangeIn[wire.SwitchBranch]) (wire.Changes, error) {
			return s.Switch(ctx, who, in.Ref, in.Body)
		})
	heldAnswer(a, op("PUT", changesPath+"/fetch", "fetch-changes", "Fetch from a clone's remote", policy.UseWorkspace), func(in *ChangeIn[wire.Exchange]) string { return in.Ref },
		func(ctx context.Context, who service.Actor, in *ChangeIn[wire.Exchange]) (wire.Exchanged, error) {
			return s.Fetch(ctx, who, in.Ref, in.Body)
		})
	heldAnswer(a, op("PUT", changesPath+"/push", "push-changes", "Push the branch that is out", policy.UseWorkspace), func(in *ChangeIn[wire.Exchange]) string { return in.Ref },
		func(ctx context.Context, who service.Actor, in *ChangeIn[wire.Exchange]) (wire.Exchanged, error) {
			return s.Push(ctx, who, in.Ref, in.Body)
		})
}
