package api

import (
	"context"
	"io"
	"net/http"
	"net/url"

	"github.com/danielgtaylor/huma/v2"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

// pushPath is where git hosts tell of pushes.
const pushPath = "/api/v1/pushes"

func prebuildRoutes(a *API) {
	s := a.svc
	list(a, op("GET", "/prebuild-plans", "list-plans", "List the prebuild plans with their newest runs", policy.SeePrebuilds), planKind,
		func(ctx context.Context, who service.Actor, in *struct {
			Page
			Repository string `query:"repository" maxLength:"64"`
		}) ([]wire.PrebuildPlan, error) {
			return s.Prebuilds.Plans(ctx, who, in.Repository)
		})
	answer(a, op("GET", "/repositories/{repository}/prebuild-plan", "show-plan", "Show the prebuild plan of a branch", policy.SeePrebuilds),
		func(ctx context.Context, who service.Actor, in *RepositoryBranch) (wire.PrebuildPlan, error) {
			return s.Prebuilds.Plan(ctx, who, in.Repository, in.Branch)
		})
	answer(a, matching(op("PUT", "/repositories/{repository}/prebuild-plan", "put-plan", "Make or change the prebuild plan of a branch", policy.ChangePrebuilds)),
		func(ctx context.Context, who service.Actor, in *struct {
			RepositoryPath
			Body wire.PutPlan
		}) (wire.PrebuildPlan, error) {
			return s.Prebuilds.PutPlan(ctx, who, in.Repository, in.Body)
		})
	done(a, op("DELETE", "/repositories/{repository}/prebuild-plan", "remove-plan", "Remove a prebuild plan with its prepared images", policy.ChangePrebuilds),
		func(ctx context.Context, who service.Actor, in *RepositoryBranch) error {
			return s.Prebuilds.DropPlan(ctx, who, in.Repository, in.Branch)
		})
	run := op("POST", "/repositories/{repository}/prebuild-runs", "run-plan", "Make a prepared image now", policy.ChangePrebuilds)
	run.DefaultStatus = http.StatusAccepted
	made(a, run, func(v wire.PrebuildRun) string { return "/prebuild-runs/" + v.ID }, nil, func(ctx context.Context, who service.Actor, in *struct {
		RepositoryPath
		Body wire.Branch
	}) (wire.PrebuildRun, error) {
		return s.Prebuilds.RunPlan(ctx, who, in.Repository, in.Body.Branch)
	})
	type RunPath struct {
		ID string `path:"run" maxLength:"40"`
	}
	list(a, op("GET", "/repositories/{repository}/prebuild-runs", "list-runs", "List the runs of a branch's prebuild plan, the newest first", policy.SeePrebuilds), runKind,
		func(ctx context.Context, who service.Actor, in *struct {
			RepositoryBranch
			Page
		}) ([]wire.PrebuildRun, error) {
			return s.Prebuilds.Runs(ctx, who, in.Repository, in.Branch)
		})
	answer(a, op("GET", "/prebuild-runs/{run}", "show-run", "Show a prebuild run", policy.SeePrebuilds),
		func(ctx context.Context, who service.Actor, in *RunPath) (wire.PrebuildRun, error) {
			return s.Prebuilds.Run(ctx, who, in.ID)
		})
	answer(a, op("GET", "/prebuild-runs/{run}/sheet", "show-run-sheet", "The launch sheet of a prebuild run", policy.SeePrebuilds),
		func(ctx context.Context, who service.Actor, in *RunPath) (wire.Sheet, error) {
			return s.Prebuilds.RunSheet(ctx, who, in.ID)
		})
	log := op("GET", "/prebuild-runs/{run}/log", "read-run-log", "The log of a prebuild run as text", policy.SeePrebuilds)
	log.Responses = map[string]*huma.Response{"200": {Description: "The log", Content: map[string]*huma.MediaType{"text/plain": {}}}}
	huma.Register(a.huma, log, func(ctx context.Context, in *struct {
		RunPath
		Follow bool `query:"follow" doc:"Go on until the run has ended"`
	}) (*huma.StreamResponse, error) {
		who := actor(ctx)
		if _, err := s.Prebuilds.RunSheet(ctx, who, in.ID); err != nil {
			return nil, err
		}
		return a.text(func(ctx context.Context, w io.Writer, flush func()) error {
			return s.Prebuilds.CopyRunLog(ctx, who, in.ID, in.Follow, w, flush)
		}), nil
	})
	done(a, op("PUT", "/repositories/{repository}/credential", "put-repository-credential", "Give a repository the credential that its prebuilds read it with", policy.ChangeRepository),
		func(ctx context.Context, who service.Actor, in *struct {
			RepositoryPath
			Body wire.GitCredential
		}) error {
			return s.Repositories.PutCredential(ctx, who, in.Repository, in.Body)
		})
	done(a, op("DELETE", "/repositories/{repository}/credential", "drop-repository-credential", "Take a repository's own credential away", policy.ChangeRepository),
		func(ctx context.Context, who service.Actor, in *RepositoryPath) error {
			return s.Repositories.DropCredential(ctx, who, in.Repository)
		})
	made(a, op("POST", "/repositories/{repository}/deploy-keys", "make-deploy-key", "Make a repository a key that its prebuilds read it with by SSH", policy.ChangeRepository),
		func(v wire.DeployKey) string { return "/repositories/" + url.PathEscape(v.Repository) }, nil,
		func(ctx context.Context, who service.Actor, in *RepositoryPath) (wire.DeployKey, error) {
			return s.Repositories.NewDeployKey(ctx, who, in.Repository)
		})
	made(a, op("POST", "/repositories/{repository}/push-keys", "make-push-key", "Give a repository a fresh key for its git host to sign the news of pushes with", policy.ChangeRepository),
		func(v wire.PushKey) string { return "/repositories/" + url.PathEscape(v.Repository) }, nil,
		func(ctx context.Context, who service.Actor, in *RepositoryPath) (wire.PushKey, error) {
			return s.Pushes.NewPushKey(ctx, who, in.Repository, "")
		})
	push := op("POST", "/pushes", "tell-push", "The news of a push, signed by the repository's git host", "")
	push.Metadata = public
	push.Security = []map[string][]string{}
	push.DefaultStatus = http.StatusAccepted
	answer(a, push, func(ctx context.Context, _ service.Actor, in *struct {
		At      string `header:"Push-Time" maxLength:"40" doc:"When it was sent, RFC 3339"`
		Mark    string `header:"Push-Mark" maxLength:"64" doc:"HMAC-SHA256 of Push-Time, a line feed and the body, in hexadecimal"`
		RawBody []byte
		Body    wire.Push
	}) (wire.Pushed, error) {
		return s.Pushes.Pushed(ctx, in.Body, in.RawBody, in.At, in.Mark)
	})
}
