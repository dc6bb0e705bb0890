package api

import (
	"context"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

func secretRoutes(a *API) {
	s := a.svc
	list(a, op("GET", "/secrets", "list-secrets", "List your secrets; values are never given out", policy.SeeSecrets), secretKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.Secret, error) {
			return s.Secrets.Secrets(ctx, who)
		})
	answer(a, op("GET", "/secrets/{name}", "show-secret", "Show one of your secrets; its value is never given out", policy.SeeSecrets),
		func(ctx context.Context, who service.Actor, in *SecretPath) (wire.Secret, error) {
			all, err := s.Secrets.Secrets(ctx, who)
			return service.One(all, err, func(v wire.Secret) bool { return v.Name == in.Name }, "secret", in.Name)
		})
	answer(a, matching(op("PUT", "/secrets/{name}", "put-secret", "Set one of your secrets", policy.ChangeSecrets)),
		func(ctx context.Context, who service.Actor, in *struct {
			SecretPath
			Body wire.SecretValue
		}) (wire.Secret, error) {
			return s.Secrets.PutSecret(ctx, who, in.Name, in.Body)
		})
	done(a, op("DELETE", "/secrets/{name}", "remove-secret", "Remove one of your secrets", policy.ChangeSecrets),
		func(ctx context.Context, who service.Actor, in *SecretPath) error {
			return s.Secrets.DropSecret(ctx, who, in.Name)
		})
	list(a, op("GET", "/repositories/{repository}/secrets", "list-repository-secrets", "List a repository's secrets", policy.SeeRepoSecrets), secretKind,
		func(ctx context.Context, who service.Actor, in *RepositoryPage) ([]wire.Secret, error) {
			return s.Secrets.RepositorySecrets(ctx, who, in.Repository)
		})
	answer(a, op("GET", "/repositories/{repository}/secrets/{name}", "show-repository-secret", "Show one of a repository's secrets", policy.SeeRepoSecrets),
		func(ctx context.Context, who service.Actor, in *struct {
			RepositoryPath
			SecretPath
		}) (wire.Secret, error) {
			all, err := s.Secrets.RepositorySecrets(ctx, who, in.Repository)
			return service.One(all, err, func(v wire.Secret) bool { return v.Name == in.Name }, "secret", in.Name)
		})
	answer(a, matching(op("PUT", "/repositories/{repository}/secrets/{name}", "put-repository-secret", "Set one of a repository's secrets", policy.ChangeRepoSecret)),
		func(ctx context.Context, who service.Actor, in *struct {
			RepositoryPath
			SecretPath
			Body wire.SecretValue
		}) (wire.Secret, error) {
			return s.Secrets.PutRepositorySecret(ctx, who, in.Repository, in.Name, in.Body)
		})
	done(a, op("DELETE", "/repositories/{repository}/secrets/{name}", "remove-repository-secret", "Remove one of a repository's secrets", policy.ChangeRepoSecret),
		func(ctx context.Context, who service.Actor, in *struct {
			RepositoryPath
			SecretPath
		}) error {
			return s.Secrets.DropRepositorySecret(ctx, who, in.Repository, in.Name)
		})
	list(a, op("GET", "/repositories/{repository}/secrets-explained", "explain-secrets", "What becomes of each secret in your workspaces of a repository, and why", policy.SeeSecrets), choiceKind,
		func(ctx context.Context, who service.Actor, in *RepositoryPage) ([]wire.SecretChoice, error) {
			return s.Secrets.ExplainSecrets(ctx, who, in.Repository)
		})
}
