package service

import (
	"bytes"
	"context"
	"testing"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/repo"
	"yardbench/internal/store"
	"yardbench/internal/wire"
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
		if err := s.Secrets.PutGitCredential(ctx, a, "git.skerryline.example", wire.GitCredential{Username: a.Name, Password: "hush"}); err != nil {
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
