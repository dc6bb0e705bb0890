package service

import (
	"slices"
	"testing"

	"yardbench/internal/core/lifecycle"
	"yardbench/wire"
)

// Whom a new secret is given to is said; later it stays as it was.
func TestSecretsReach(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	addWorkspace(t, s, ingrid, "tide", lifecycle.Stopped) // it registers tide-board
	for _, c := range []struct {
		what, name string
		in         wire.SecretValue
		status     int
	}{
		{"no variable name", "1-KEY", wire.SecretValue{Value: "x", Everywhere: true}, 422}, {"nobody named", "KEY", wire.SecretValue{Value: "x"}, 422},
		{"both", "KEY", wire.SecretValue{Value: "x", Everywhere: true, Repositories: []string{"tide-board"}}, 422}, {"unknown repository", "KEY", wire.SecretValue{Value: "x", Repositories: []string{"ghost"}}, 404},
		{"empty", "KEY", wire.SecretValue{Everywhere: true}, 422},
	} {
		if _, err := s.Secrets.PutSecret(ctx, ingrid, c.name, c.in); status(err) != c.status {
			t.Errorf("%s is answered %v", c.what, err)
		}
	}
	if _, err := s.Secrets.PutSecret(ctx, ingrid, "KEY", wire.SecretValue{Value: "one", Form: "file", Repositories: []string{"tide-board"}}); err != nil {
		t.Fatal(err)
	}
	if v, err := s.Secrets.PutSecret(ctx, ingrid, "KEY", wire.SecretValue{Value: "two"}); err != nil || v.Version != 2 || v.Form != "file" || !slices.Equal(v.Repositories, []string{"tide-board"}) {
		t.Errorf("a new value makes it %+v, %v", v, err)
	}
	if _, err := s.Secrets.PutRepositorySecret(ctx, ingrid, "tide-board", "KEY", wire.SecretValue{Value: "x"}); status(err) != 403 {
		t.Errorf("a developer sets a repository's secret: %v", err)
	}
	if _, err := s.Secrets.PutRepositorySecret(ctx, astrid, "tide-board", "KEY", wire.SecretValue{Value: "x", Everywhere: true}); status(err) != 422 {
		t.Errorf("a repository's secret goes everywhere: %v", err)
	}
}
