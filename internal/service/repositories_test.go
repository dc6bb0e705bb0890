package service

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/secret"
	"yardbench/internal/repo"
	"yardbench/internal/store"
	"yardbench/wire"
)

// hosting is a git host that has some branches of everything.
type hosting struct {
	Mirrors
	branches []string // the first is the host's default
	dropped  []string
}

func (h *hosting) DefaultBranch(context.Context, string, repo.Credential) (string, error) {
	if len(h.branches) == 0 {
		return "", repo.Problem{What: "there is nothing at this address", Next: "correct it"}
	}
	return h.branches[0], nil
}
func (h *hosting) Fetch(context.Context, string, string, repo.Credential) error { return nil }
func (h *hosting) Resolve(_ context.Context, _, branch string) (string, error) {
	if !slices.Contains(h.branches, branch) {
		return "", repo.Problem{What: "there is no branch " + branch, Next: "name one that is there"}
	}
	return "0a1b", nil
}
func (h *hosting) Drop(id string) error {
	h.dropped = append(h.dropped, id)
	return nil
}

// An operator changes where a repository is and which branch is meant; a credential
// does not move to another host.
func TestChangeRepository(t *testing.T) {
	s, _, _ := bare(t)
	halla, sigrid := addPersonTo(t, s, "halla", policy.Operator), addPersonTo(t, s, "sigrid", policy.Lead)
	ctx := t.Context()
	old := store.Repository{ID: "one", Name: "one", URL: "http://git.skerryline.example/one.git", DefaultBranch: "main"}
	if err := s.rooms.Store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.AddRepository(ctx, old); err != nil {
			return err
		}
		return tx.SetReadCredential(ctx, "one", "reader", "", []byte("sealed"))
	}); err != nil {
		t.Fatal(err)
	}
	text := func(v string) *string { return &v }
	for _, c := range []struct {
		what     string
		who      Actor
		branches []string
		in       wire.RepositoryChange
		says     string
		want     wire.Repository
	}{
		{"by a lead", sigrid, []string{"main"}, wire.RepositoryChange{DefaultBranch: text("main")}, "does not allow", wire.Repository{}},
		{"no address", halla, []string{"main"}, wire.RepositoryChange{URL: text("ftp://x")}, "address", wire.Repository{}},
		{"nothing there", halla, nil, wire.RepositoryChange{URL: text("http://git.skerryline.example/two.git")}, "nothing at this address", wire.Repository{}},
		{"no such branch", halla, []string{"main"}, wire.RepositoryChange{DefaultBranch: text("spring")}, "no branch spring", wire.Repository{}},
		{"another branch", halla, []string{"main", "spring"}, wire.RepositoryChange{DefaultBranch: text("spring")}, "", wire.Repository{URL: old.URL, DefaultBranch: "spring", OwnCredential: true}},
		{"moved at its host, the branch is there", halla, []string{"trunk", "spring"}, wire.RepositoryChange{URL: text("http://git.skerryline.example/boards/one.git")}, "", wire.Repository{URL: "http://git.skerryline.example/boards/one.git", DefaultBranch: "spring", OwnCredential: true}},
		{"moved, the branch is not there", halla, []string{"trunk"}, wire.RepositoryChange{URL: text(old.URL)}, "", wire.Repository{URL: old.URL, DefaultBranch: "trunk", OwnCredential: true}},
		{"what its host says", halla, []string{"main", "trunk"}, wire.RepositoryChange{DefaultBranch: text("")}, "", wire.Repository{URL: old.URL, DefaultBranch: "main", OwnCredential: true}},
		{"a pull request", halla, []string{"main", "refs/pull/3/head"}, wire.RepositoryChange{DefaultBranch: text("refs/pull/3/head")}, "is no branch", wire.Repository{}},
		{"nothing", halla, nil, wire.RepositoryChange{}, "", wire.Repository{URL: old.URL, DefaultBranch: "main", OwnCredential: true}},
		{"to another host", halla, []string{"main"}, wire.RepositoryChange{URL: text("http://code.skerryline.example/one.git")}, "", wire.Repository{URL: "http://code.skerryline.example/one.git", DefaultBranch: "main"}},
	} {
		s.Repositories.mirrors = &hosting{branches: c.branches}
		got, err := s.Repositories.ChangeRepository(ctx, c.who, "one", c.in)
		if c.says != "" {
			if err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s: it is answered %v", c.what, err)
			}
			continue
		}
		c.want.Name = "one"
		now, nerr := s.Repositories.Repository(ctx, c.who, "one")
		if err != nil || nerr != nil || got != c.want || now != c.want {
			t.Errorf("%s: it is %+v, and stands as %+v, %v", c.what, got, now, errors.Join(err, nerr))
		}
	}
}

// A repository goes with its plans and secrets, and what was made of it stays; its
// name is free then. Workspaces of it hold it, one that is launched meanwhile too.
func TestRemoveRepository(t *testing.T) {
	s, ingrid, _ := bare(t)
	halla := addPersonTo(t, s, "halla", policy.Operator)
	ctx := t.Context()
	host := &hosting{Mirrors: s.Repositories.mirrors, branches: []string{"main"}}
	s.Repositories.mirrors = host
	w := store.Workspace{ID: "w", OwnerID: ingrid.ID, Name: "w", RepositoryID: "one", Branch: "main", Phase: lifecycle.Stopped, Wanted: lifecycle.WantStopped, Body: 1, Volume: 1, StewardToken: []byte{1}}
	do := func(f func(tx *store.Tx) error) {
		t.Helper()
		if err := s.rooms.Store.Write(ctx, f); err != nil {
			t.Fatal(err)
		}
	}
	do(func(tx *store.Tx) error {
		if err := tx.AddRepository(ctx, store.Repository{ID: "one", Name: "one", URL: "http://git.skerryline.example/one.git", DefaultBranch: "main"}); err != nil {
			return err
		}
		if err := tx.AddWorkspace(ctx, &w); err != nil {
			return err
		}
		return tx.PutPrebuildPlan(ctx, store.PrebuildPlan{ID: "plan", RepositoryID: "one", Branch: "main", Keep: 1, MadeBy: halla.ID})
	})
	if _, err := s.Secrets.Put(ctx, halla, Whose{secret.OfRepository, "one"}, "KEY", wire.SecretValue{Value: "hush"}); err != nil {
		t.Fatal(err)
	}
	if err := s.Repositories.RemoveRepository(ctx, ingrid, "one"); err == nil || !strings.Contains(err.Error(), "does not allow") {
		t.Errorf("by a developer it is answered %v", err)
	}
	if err := s.Repositories.RemoveRepository(ctx, halla, "one"); err == nil || !strings.Contains(err.Error(), "1 workspaces") || len(host.dropped) > 0 {
		t.Errorf("with a workspace it is answered %v", err)
	}
	if plans, err := s.rooms.Store.Read().PrebuildPlans(ctx, "one"); err != nil || len(plans) != 1 {
		t.Errorf("refused, its plans are %v, %v", plans, err)
	}
	w.Phase, w.Wanted = lifecycle.Removed, lifecycle.WantRemoved
	stale := IfMatch(ctx, []string{"another"})
	do(func(tx *store.Tx) error { return tx.SaveWorkspace(ctx, w) })
	if err := s.Repositories.RemoveRepository(stale, halla, "one"); status(err) != 412 {
		t.Errorf("by somebody who saw it otherwise it is answered %v", err)
	}
	if plans, err := s.rooms.Store.Read().PrebuildPlans(ctx, "one"); err != nil || len(plans) != 1 {
		t.Errorf("refused as stale, its plans are %v, %v", plans, err)
	}
	if err := s.Repositories.RemoveRepository(ctx, halla, "one"); err != nil || !slices.Equal(host.dropped, []string{"one"}) {
		t.Fatalf("it is answered %v, and %v is dropped", err, host.dropped)
	}
	q := s.rooms.Store.Read()
	all, err := s.Repositories.Repositories(ctx, halla)
	byURL, uerr := q.RepositoriesByURL(ctx, "http://git.skerryline.example/one.git")
	plans, perr := q.PrebuildPlans(ctx, "")
	left, serr := q.Secrets(ctx, store.SecretsOf{Level: secret.OfRepository, SubjectID: "one"})
	if err := errors.Join(err, uerr, perr, serr); err != nil || len(all)+len(byURL)+len(plans)+len(left) > 0 {
		t.Errorf("there are left %v, %v, %v, %v, %v", all, byURL, plans, left, err)
	}
	if r, err := q.RepositoryByID(ctx, "one"); err != nil || !r.Removed || !strings.HasPrefix(r.Name, "one, removed ") {
		t.Errorf("in the records it is %+v, %v", r, err)
	}
	if err := s.Repositories.RemoveRepository(ctx, halla, "one"); status(err) != 404 {
		t.Errorf("once more it is answered %v", err)
	}
	if _, err := s.Repositories.AddRepository(ctx, halla, wire.NewRepository{URL: "http://git.skerryline.example/one.git"}); err != nil {
		t.Errorf("its name is not free: %v", err)
	}
	late := store.Workspace{ID: "late", OwnerID: ingrid.ID, Name: "late", RepositoryID: "one", Branch: "main", Plan: &store.Plan{}}
	err = s.rooms.Store.Write(ctx, func(tx *store.Tx) error {
		return s.Launches.Accept(ctx, tx, &late, lifecycle.LaunchSheet, ingrid.ID, "one")
	})
	if status(err) != 404 {
		t.Errorf("a launch of what was removed meanwhile is answered %v", err)
	}
}
