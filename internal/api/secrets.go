package api

import (
	"context"

	"yardbench/internal/core/policy"
	"yardbench/internal/core/secret"
	"yardbench/internal/service"
	"yardbench/wire"
)

// TeamPath names a team.
type TeamPath struct {
	Team string `path:"team" maxLength:"40"`
}

// The parameters of what is asked of secrets, by whose they are.
type (
	teamPage struct {
		TeamPath
		Page
	}
	RepositorySecret struct {
		RepositoryPath
		SecretPath
	}
	TeamSecret struct {
		TeamPath
		SecretPath
	}
)

func ofRepository(p RepositoryPath) service.Whose {
	return service.Whose{Level: secret.OfRepository, Name: p.Repository}
}
func ofTeam(p TeamPath) service.Whose { return service.Whose{Level: secret.OfTeam, Name: p.Team} }

var ofHouse = service.Whose{Level: secret.OfHouse}

func secretRoutes(a *API) {
	s := a.svc.Secrets
	secretsOf(a, "/secrets", "secret", "your secrets", policy.SeeSecrets, policy.ChangeSecrets,
		func(*Page) service.Whose { return service.Mine },
		func(in *SecretPath) (service.Whose, string) { return service.Mine, in.Name },
		func(in *struct {
			SecretPath
			Body wire.SecretValue
		}) (service.Whose, string, wire.SecretValue) {
			return service.Mine, in.Name, in.Body
		})
	secretsOf(a, "/repositories/{repository}/secrets", "repository-secret", "a repository's secrets", policy.SeeRepoSecrets, policy.ChangeRepoSecret,
		func(in *RepositoryPage) service.Whose { return ofRepository(in.RepositoryPath) },
		func(in *RepositorySecret) (service.Whose, string) { return ofRepository(in.RepositoryPath), in.Name },
		func(in *struct {
			RepositorySecret
			Body wire.SecretValue
		}) (service.Whose, string, wire.SecretValue) {
			return ofRepository(in.RepositoryPath), in.Name, in.Body
		})
	secretsOf(a, "/teams/{team}/secrets", "team-secret", "a team's secrets", policy.SeeTeamSecrets, policy.ChangeTeamSecret,
		func(in *teamPage) service.Whose { return ofTeam(in.TeamPath) },
		func(in *TeamSecret) (service.Whose, string) { return ofTeam(in.TeamPath), in.Name },
		func(in *struct {
			TeamSecret
			Body wire.SecretValue
		}) (service.Whose, string, wire.SecretValue) {
			return ofTeam(in.TeamPath), in.Name, in.Body
		})
	secretsOf(a, "/house/secrets", "house-secret", "the house's secrets", policy.SeeHouseSecrets, policy.ChangeHouseSecret,
		func(*Page) service.Whose { return ofHouse },
		func(in *SecretPath) (service.Whose, string) { return ofHouse, in.Name },
		func(in *struct {
			SecretPath
			Body wire.SecretValue
		}) (service.Whose, string, wire.SecretValue) {
			return ofHouse, in.Name, in.Body
		})
	list(a, op("GET", "/repositories/{repository}/secrets-explained", "explain-secrets", "What becomes of each secret in your workspaces of a repository, and why", policy.SeeSecrets), choiceKind,
		func(ctx context.Context, who service.Actor, in *struct {
			RepositoryPage
			Branch string `query:"branch" maxLength:"255" doc:"On which branch; the default one where it is left out"`
			Name   string `query:"name" maxLength:"128" doc:"Of one secret, also where there is none"`
		}) ([]wire.SecretChoice, error) {
			return s.Explain(ctx, who, in.Repository, service.Looked{Branch: in.Branch, Name: in.Name})
		})
	list(a, op("GET", "/workspaces/{workspace}/secrets-explained", "explain-workspace-secrets", "What becomes of each secret in one of your workspaces, and what runs there with an older value", policy.UseWorkspace), choiceKind,
		func(ctx context.Context, who service.Actor, in *struct {
			WorkspacePage
			Name string `query:"name" maxLength:"128" doc:"Of one secret, also where there is none"`
		}) ([]wire.SecretChoice, error) {
			return s.ExplainIn(ctx, who, in.Ref, service.Looked{Name: in.Name})
		})
	answer(a, op("POST", "/workspaces/{workspace}/renewals", "renew-secrets", "Begin anew what the definition of one of your workspaces has left running at its start, so that it has the secrets as they are now", policy.UseWorkspace),
		func(ctx context.Context, who service.Actor, in *Workspace) (wire.Renewal, error) {
			return s.Renew(ctx, who, in.Ref)
		})
}

// secretsOf has secrets of one level listed, shown, set and removed.
func secretsOf[L asks, O, P any](a *API, path, id, whose string, see, change policy.Action, all func(*L) service.Whose, one func(*O) (service.Whose, string), put func(*P) (service.Whose, string, wire.SecretValue)) {
	s := a.svc.Secrets
	list(a, op("GET", path, "list-"+id+"s", "List "+whose+"; values are never given out", see), secretKind,
		func(ctx context.Context, who service.Actor, in *L) ([]wire.Secret, error) {
			return s.List(ctx, who, all(in))
		})
	path += "/{name}"
	answer(a, op("GET", path, "show-"+id, "Show one of "+whose+"; its value is never given out", see),
		func(ctx context.Context, who service.Actor, in *O) (wire.Secret, error) {
			of, name := one(in)
			rows, err := s.List(ctx, who, of)
			return service.One(rows, err, func(v wire.Secret) bool { return v.Name == name }, "secret", name)
		})
	answer(a, matching(op("PUT", path, "put-"+id, "Set one of "+whose, change)),
		func(ctx context.Context, who service.Actor, in *P) (wire.Secret, error) {
			of, name, value := put(in)
			return s.Put(ctx, who, of, name, value)
		})
	done(a, op("DELETE", path, "remove-"+id, "Remove one of "+whose, change),
		func(ctx context.Context, who service.Actor, in *O) error {
			of, name := one(in)
			return s.Drop(ctx, who, of, name)
		})
}
