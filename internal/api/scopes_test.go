package api_test

import (
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	yb "yardbench/client"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/serve"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Every operation, with a token of each scope and with one of one repository, all of
// an operator who may do everything: what the scope has not is refused as such, and
// the rest is not.
func TestEveryRouteHoldsTheScopes(t *testing.T) {
	address, svc := doorTo(t, serve.SimulatedYard)
	renew(t, svc, "astrid")
	whole := mustClient(t, address, signIn(t, address, "astrid"))
	tokens := map[string]policy.Grant{}
	for _, s := range policy.Scopes {
		made, err := whole.Self.MakeToken(t.Context(), wire.NewToken{Name: string(s), Scopes: []string{string(s)}})
		if err != nil {
			t.Fatal(err)
		}
		tokens[made.Value] = policy.Grant{Scopes: []policy.Scope{s}}
	}
	made, err := whole.Self.MakeToken(t.Context(), wire.NewToken{Name: "one", Repositories: []string{"tide-board"}})
	if err != nil || !strings.HasPrefix(made.Value, "yb_token_") {
		t.Fatal(err, made.Value)
	}
	tokens[made.Value] = policy.Grant{Repositories: []string{"r1"}}
	d := description(t)
	asked := 0
	for path, methods := range d.Paths {
		concrete := strings.NewReplacer("{workspace}", "nothing", "{person}", "nobody", "{repository}", "nothing", "{name}", "KEY", "{host}", "git.skerryline.example",
			"{id}", "nothing", "{operation}", "nothing", "{container}", "nothing", "{run}", "nothing", "{port}", "8000", "{sheet}", "0", "{version}", "0", "{number}", "1").Replace(path)
		for method, o := range methods {
			if o.Action == "" || o.OperationID == "watch-events" {
				continue
			}
			for token, grant := range tokens {
				asked++
				ctx := t.Context()
				req, err := http.NewRequestWithContext(ctx, strings.ToUpper(method), address+concrete, strings.NewReader(`{"rubbish":true}`))
				if err != nil {
					t.Fatal(err)
				}
				req.Header = bearer(token)
				req.Header.Set("Content-Type", "application/json")
				res, err := http.DefaultClient.Do(req)
				if err != nil {
					t.Fatal(err)
				}
				var p wire.Problem
				_ = json.NewDecoder(res.Body).Decode(&p) // what is no problem is none of the scope
				res.Body.Close()
				if refused := p.Type == wire.ProblemPrefix+"scope"; refused == grant.Reaches(policy.Action(o.Action)) {
					t.Errorf("%s %s (%s) asked with %+v is answered %d, %s", method, path, o.Action, grant, res.StatusCode, p.Type)
				}
			}
		}
	}
	if asked < 400 {
		t.Errorf("only %d were asked", asked)
	}
}

// To a token of one repository there is no other, nor anything of it.
func TestATokenOfOneRepository(t *testing.T) {
	address, svc := doorTo(t, serve.SimulatedYard)
	ctx := t.Context()
	renew(t, svc, "ingrid")
	var other store.Workspace
	err := svc.rooms.Store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.AddRepository(ctx, store.Repository{ID: "r2", Name: "fare-desk", URL: "http://git.skerryline.localhost:1/fare-desk.git", DefaultBranch: "main"}); err != nil {
			return err
		}
		p, err := tx.PersonByName(ctx, "ingrid")
		if err != nil {
			return err
		}
		w, err := tx.WorkspaceByName(ctx, p.ID, "w")
		if err != nil {
			return err
		}
		other = w
		other.ID, other.Name, other.RepositoryID, other.PortKey, other.Phase, other.Wanted = store.NewID(), "other", "r2", "otherport", lifecycle.Stopped, lifecycle.WantStopped
		return tx.AddWorkspace(ctx, &other)
	})
	if err != nil {
		t.Fatal(err)
	}
	ingrid := mustClient(t, address, signIn(t, address, "ingrid"))
	made, err := ingrid.Self.MakeToken(ctx, wire.NewToken{Name: "one", Scopes: []string{"launch", "work"}, Repositories: []string{"tide-board"}})
	if err != nil || !slices.Equal(made.Repositories, []string{"tide-board"}) {
		t.Fatalf("%+v, %v", made, err)
	}
	one := mustClient(t, address, made.Value)
	if me, err := one.Self.Me(ctx); err != nil || !slices.Equal(me.Scopes, []string{"launch", "work"}) || !slices.Equal(me.Repositories, []string{"tide-board"}) {
		t.Errorf("it is told %+v, %v", me, err)
	}
	missing := func(what string, err error) {
		t.Helper()
		if p := (*wire.Problem)(nil); err == nil || wire.ProblemOf(err) == nil && p == nil || !strings.Contains(err.Error(), "there is no") {
			t.Errorf("%s: %v", what, err)
		}
	}
	rows, err := one.Workspaces.List(ctx, yb.ListQuery{})
	if err != nil || len(rows) != 1 || rows[0].Name != "w" {
		t.Errorf("it lists %+v, %v", rows, err)
	}
	repositories, err := one.Repositories.List(ctx)
	if err != nil || len(repositories) != 1 || repositories[0].Name != "tide-board" {
		t.Errorf("it lists %+v, %v", repositories, err)
	}
	_, err = one.Workspaces.Show(ctx, "other")
	missing("a workspace of another", err)
	_, err = one.Workspaces.Stop(ctx, "other")
	missing("a stop of another", err)
	_, err = one.Workspaces.Launch(ctx, wire.Launch{Repository: "fare-desk"})
	missing("a launch of another", err)
	_, err = one.Workspaces.Launch(ctx, wire.Launch{Repository: "tide-board", Beside: []string{"fare-desk"}})
	if err == nil {
		t.Error("another is cloned beside")
	}
	_, err = one.Operations.Ask(ctx, wire.NewOperation{Verb: "stop", Names: []string{"other"}})
	missing("an operation on another", err)
	if o, err := one.Operations.Ask(ctx, wire.NewOperation{Verb: "start", Where: &wire.WorkspaceWhere{}}); err != nil || o.Total != 1 {
		t.Errorf("an operation on all is on %d, %v", o.Total, err)
	}
	if o, err := ingrid.Operations.Ask(ctx, wire.NewOperation{Verb: "let rest", Names: []string{"other"}}); err != nil {
		t.Error(err)
	} else if _, err := one.Operations.Show(ctx, o.ID); err == nil {
		t.Error("it sees what was asked of others")
	}
	_, err = one.Ports.Visit(ctx, strings.Replace(strings.Replace(address, "127.0.0.1", "otherport-8000.ports.localhost", 1), "http", "http", 1))
	missing("a port of another", err)
	missing("a notice at another", one.Workspaces.Heed(ctx, "other"))
	// Whoever asks again for what was made with a key meets the same bounds.
	if _, err := one.Self.MakeToken(ctx, wire.NewToken{Name: "wider"}); wire.ProblemOf(err) == nil && err == nil {
		t.Error("it makes a token")
	}
}

// A program belongs to a team: its lead makes its account and its tokens, which
// reach no further than what they are made with; nobody signs in with it.
func TestPrograms(t *testing.T) {
	address, svc := doorTo(t, serve.SimulatedYard)
	renew(t, svc, "ingrid")
	ctx := t.Context()
	as := func(name string) *yb.Client { return mustClient(t, address, signIn(t, address, name)) }
	astrid, runa, ingrid := as("astrid"), as("runa"), as("ingrid")
	me, err := runa.Self.Me(ctx)
	if err != nil {
		t.Fatal(err)
	}
	p, err := runa.People.AddProgram(ctx, wire.NewProgram{Name: "nightwatch", Purpose: "Reviews of pull requests", Team: me.Team})
	if err != nil || !p.Program || p.Role != "developer" || p.Team != me.Team {
		t.Fatalf("%+v, %v", p, err)
	}
	made, err := runa.People.MakeProgramToken(ctx, "nightwatch", wire.NewToken{Name: "reviews", Scopes: []string{"launch"}, Days: 3})
	if err != nil || made.MadeBy != "runa" || made.Of != "nightwatch" {
		t.Fatalf("%+v, %v", made, err)
	}
	program := mustClient(t, address, made.Value)
	who, err := program.Self.Me(ctx)
	if err != nil || who.Name != "nightwatch" || !who.Program {
		t.Errorf("it is %+v, %v", who, err)
	}
	if _, err := mustClient(t, address, "").Self.SignIn(ctx, "nightwatch", ""); err == nil {
		t.Error("somebody signs in with it")
	}
	if len(who.Expiring) != 1 || who.Expiring[0].Name != "reviews" {
		t.Errorf("that its token expires is told as %+v", who.Expiring)
	}
	teams, err := astrid.People.Teams(ctx)
	if err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(teams, func(t wire.Team) bool { return t.Name != me.Team })
	admin, err := astrid.Self.MakeToken(ctx, wire.NewToken{Name: "admin", Scopes: []string{"administer"}})
	if err != nil {
		t.Fatal(err)
	}
	for what, err := range map[string]error{
		"a lead for another team": tried(runa.People.AddProgram(ctx, wire.NewProgram{Name: "other", Purpose: "x", Team: teams[i].Name})),
		"a lead's operator":       tried(runa.People.AddProgram(ctx, wire.NewProgram{Name: "other", Purpose: "x", Team: me.Team, Role: "operator"})),
		"a developer":             tried(ingrid.People.AddProgram(ctx, wire.NewProgram{Name: "other", Purpose: "x", Team: me.Team})),
		"a name that is taken":    tried(astrid.People.AddProgram(ctx, wire.NewProgram{Name: "nightwatch", Purpose: "x", Team: me.Team})),
		"no such team":            tried(astrid.People.AddProgram(ctx, wire.NewProgram{Name: "other", Purpose: "x", Team: "Nowhere"})),
		"a person's token":        tried(astrid.People.MakeProgramToken(ctx, "ingrid", wire.NewToken{Name: "x"})),
		"its own token":           tried(program.Self.MakeToken(ctx, wire.NewToken{Name: "x"})),
		"a link for a password":   tried(astrid.People.Enrol(ctx, wire.NewEnrolment{Person: "nightwatch"})),
		"a wider one":             tried(mustClient(t, address, admin.Value).People.MakeProgramToken(ctx, "nightwatch", wire.NewToken{Name: "x", Scopes: []string{"work"}})),
		"an unbounded one":        tried(mustClient(t, address, admin.Value).People.MakeProgramToken(ctx, "nightwatch", wire.NewToken{Name: "x"})),
		"a scope there is not":    tried(runa.People.MakeProgramToken(ctx, "nightwatch", wire.NewToken{Name: "x", Scopes: []string{"fly"}})),
		"a token without a name":  tried(runa.People.MakeProgramToken(ctx, "nightwatch", wire.NewToken{Name: "  "})),
	} {
		if err == nil {
			t.Errorf("%s is taken", what)
		}
	}
	// The journal says once that it expires, also after a day.
	if err := svc.SignIns.Remind(ctx); err != nil {
		t.Fatal(err)
	}
	entries, err := astrid.Journal.List(ctx, yb.JournalQuery{Kind: "token.expiring", Limit: 100})
	if err != nil || len(entries) != 1 || entries[0].Data["name"] != "reviews" || entries[0].OwnerName != "nightwatch" {
		t.Errorf("the journal says %+v, %v", entries, err)
	}
	if err := svc.SignIns.Remind(ctx); err != nil {
		t.Fatal(err)
	}
	if again, _ := astrid.Journal.List(ctx, yb.JournalQuery{Kind: "token.expiring", Limit: 100}); len(again) != 1 {
		t.Errorf("it says so %d times", len(again))
	}
	// It ends for whoever holds it, at once.
	if err := runa.People.EndProgramToken(ctx, "nightwatch", made.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := program.Self.Me(ctx); err == nil {
		t.Error("it goes on")
	}
	if time.Until(made.ExpiresAt) > 73*time.Hour {
		t.Errorf("it would have gone on until %s", made.ExpiresAt)
	}
}

func tried[T any](_ T, err error) error { return err }
