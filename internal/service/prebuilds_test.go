package service

import (
	"bytes"
	"context"
	"strings"
	"testing"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/repo"
	"yardbench/internal/store"
	"yardbench/wire"
)

// guarded is a git host that lets some people read some repositories.
type guarded struct {
	Mirrors
	asked int
	may   map[[2]string]bool // by user name and address
}

func (g *guarded) DefaultBranch(_ context.Context, address string, c repo.Credential) (string, error) {
	if g.asked++; !g.may[[2]string{c.Username, address}] {
		return "", repo.Problem{What: "the git host refuses", Next: "ask there"}
	}
	return "main", nil
}

// What a prebuild printed is of the source: who may not read all that is in it
// is told what the git host tells them.
func TestRunLogsAreForReaders(t *testing.T) {
	s, ingrid, _ := bare(t)
	mats, audun := addPersonTo(t, s, "mats", policy.Developer), addPersonTo(t, s, "audun", policy.Auditor)
	ctx := t.Context()
	host := &guarded{Mirrors: s.Definitions.mirrors, may: map[[2]string]bool{{"ingrid", "http://git.skerryline.example/one.git"}: true, {"ingrid", "http://git.skerryline.example/two.git"}: true, {"mats", "http://git.skerryline.example/one.git"}: true}}
	s.Definitions.mirrors = host
	w := store.Workspace{ID: "pre", OwnerID: ingrid.ID, Name: "prebuild-1", RepositoryID: "one", Branch: "main", Kind: store.ForPrebuild, Phase: lifecycle.Removed, Wanted: lifecycle.WantRemoved, Body: 1, Volume: 1, StewardToken: []byte{1},
		Plan: &store.Plan{Beside: []store.Beside{{RepositoryID: "two", Name: "two", URL: "http://git.skerryline.example/two.git"}}}}
	run := store.PrebuildRun{ID: "run", PlanID: "plan", WorkspaceID: "pre"}
	if err := s.rooms.Store.Write(ctx, func(tx *store.Tx) error {
		for _, name := range []string{"one", "two"} {
			if err := tx.AddRepository(ctx, store.Repository{ID: name, Name: name, URL: "http://git.skerryline.example/" + name + ".git", DefaultBranch: "main"}); err != nil {
				return err
			}
		}
		if err := tx.AddWorkspace(ctx, &w); err != nil {
			return err
		}
		if err := tx.FirstSheet(ctx, "pre", "launch"); err != nil {
			return err
		}
		if err := tx.PutPrebuildPlan(ctx, store.PrebuildPlan{ID: "plan", RepositoryID: "one", Branch: "main", Keep: 1, MadeBy: ingrid.ID}); err != nil {
			return err
		}
		return tx.AddRun(ctx, &run)
	}); err != nil {
		t.Fatal(err)
	}
	for _, a := range []Actor{ingrid, mats} {
		if err := s.GitHosts.PutGitCredential(ctx, a, "git.skerryline.example", wire.GitCredential{Username: a.Name, Password: "hush"}); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		a   Actor
		may bool
	}{{ingrid, true}, {mats, false}, {audun, false}, {ingrid, true}} {
		var out bytes.Buffer
		if _, err := s.Prebuilds.RunSheet(ctx, c.a, "run"); (err == nil) != c.may {
			t.Errorf("%s asks for the sheet: %v", c.a.Name, err)
		}
		if err := s.Prebuilds.CopyRunLog(ctx, c.a, "run", false, &out, func() {}); (err == nil) != c.may {
			t.Errorf("%s asks for the log: %v, %q", c.a.Name, err, out.String())
		}
	}
	asked := host.asked
	if _, err := s.Prebuilds.RunSheet(ctx, ingrid, "run"); err != nil || host.asked != asked {
		t.Errorf("the git host is asked anew at once, %v", err)
	}
}

// refusing is a git host that answers every question alike.
type refusing struct {
	Mirrors
	err error
}

func (r refusing) DefaultBranch(context.Context, string, repo.Credential) (string, error) {
	return "main", r.err
}

// A repository's own credential is tried before it is kept: one that the host
// refuses is told apart from a host that is away.
func TestRepositoryCredential(t *testing.T) {
	s, _, _ := bare(t)
	operator, lead := addPersonTo(t, s, "halla", policy.Operator), addPersonTo(t, s, "sigrid", policy.Lead)
	ctx := t.Context()
	if err := s.rooms.Store.Write(ctx, func(tx *store.Tx) error {
		return tx.AddRepository(ctx, store.Repository{ID: "one", Name: "one", URL: "http://git.skerryline.example/one.git", DefaultBranch: "main"})
	}); err != nil {
		t.Fatal(err)
	}
	own := func() bool {
		r, err := s.rooms.Store.Read().RepositoryByName(ctx, "one")
		if err != nil {
			t.Fatal(err)
		}
		with, err := s.rooms.Sessions.RepositoryCredential(t.Context(), r)
		if err != nil || with.Username != "" && with.Password != "tide" {
			t.Errorf("it is kept as %+v, %v", with, err)
		}
		return with.Username != ""
	}
	away := repo.Problem{What: "the git host cannot be used", Next: "try again when it answers"}
	for _, c := range []struct {
		who  Actor
		host error
		says string
	}{
		{lead, nil, "does not allow"},
		{operator, repo.SignIn{Problem: repo.Problem{What: "the git host refuses your credential"}}, "cannot be read"},
		{operator, away, "cannot be used"},
	} {
		s.Repositories.mirrors = refusing{s.Repositories.mirrors, c.host}
		if err := s.Repositories.PutCredential(ctx, c.who, "one", wire.GitCredential{Username: "reader", Password: "tide"}); err == nil || !strings.Contains(err.Error(), c.says) || own() {
			t.Errorf("with %v it is answered %v, and kept: %v", c.host, err, own())
		}
	}
	s.Repositories.mirrors = refusing{}
	if err := s.Repositories.PutCredential(ctx, operator, "one", wire.GitCredential{Username: "reader", Password: "tide"}); err != nil || !own() {
		t.Errorf("a good one is answered %v", err)
	}
	if err := s.Repositories.DropCredential(ctx, operator, "one"); err != nil || own() {
		t.Errorf("it is taken away: %v", err)
	}
	if err := s.Repositories.DropCredential(ctx, operator, "one"); status(err) != 404 {
		t.Errorf("one that is not there is answered %v", err)
	}
}
