package service

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/core/secret"
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
		if _, err := s.Secrets.Put(ctx, ingrid, Mine, c.name, c.in); status(err) != c.status {
			t.Errorf("%s is answered %v", c.what, err)
		}
	}
	if _, err := s.Secrets.Put(ctx, ingrid, Mine, "KEY", wire.SecretValue{Value: "one", Form: "file", Repositories: []string{"tide-board"}}); err != nil {
		t.Fatal(err)
	}
	if v, err := s.Secrets.Put(ctx, ingrid, Mine, "KEY", wire.SecretValue{Value: "two"}); err != nil || v.Version != 2 || v.Form != "file" || !slices.Equal(v.Repositories, []string{"tide-board"}) {
		t.Errorf("a new value makes it %+v, %v", v, err)
	}
	if _, err := s.Secrets.Put(ctx, ingrid, Whose{Level: secret.OfRepository, Name: "tide-board"}, "KEY", wire.SecretValue{Value: "x"}); status(err) != 403 {
		t.Errorf("a developer sets a repository's secret: %v", err)
	}
	if _, err := s.Secrets.Put(ctx, astrid, Whose{Level: secret.OfRepository, Name: "tide-board"}, "KEY", wire.SecretValue{Value: "x", Everywhere: true}); status(err) != 422 {
		t.Errorf("a repository's secret goes everywhere: %v", err)
	}
}

// Each level is set by those it belongs to, and seen by those it reaches; the nearest
// is what a workspace has, and why is told.
func TestSecretsOfEveryLevel(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	w := addWorkspace(t, s, ingrid, "tide", lifecycle.Stopped)
	team := func(a Actor, name string) (of Actor) {
		t.Helper()
		if _, err := s.People.AddTeam(ctx, astrid, wire.NewTeam{Name: name}); err != nil && status(err) != 409 {
			t.Fatal(err)
		}
		if _, err := s.People.ChangePerson(ctx, astrid, a.Name, wire.PersonChange{Team: &name}); err != nil {
			t.Fatal(err)
		}
		p, err := s.rooms.Store.Read().PersonByID(ctx, a.ID)
		if err != nil {
			t.Fatal(err)
		}
		a.Person = p
		return a
	}
	ingrid = team(ingrid, "Harbour")
	team(ingrid, "Decks") // there is one; she goes back
	ingrid = team(ingrid, "Harbour")
	lead := ingrid
	lead.Role, lead.ID = policy.Lead, "a lead"
	home := "~/.bashrc"
	harbour, decks, house := Whose{secret.OfTeam, "Harbour"}, Whose{secret.OfTeam, "Decks"}, Whose{Level: secret.OfHouse}
	value := func(v string) wire.SecretValue { return wire.SecretValue{Value: v, Everywhere: true} }
	for _, c := range []struct {
		who    Actor
		of     Whose
		in     wire.SecretValue
		status int
	}{
		{ingrid, harbour, value("x"), 403}, {lead, decks, value("x"), 404}, {ingrid, decks, value("x"), 404}, {lead, house, value("x"), 403}, {astrid, harbour, wire.SecretValue{Value: "x"}, 422}, {astrid, Whose{secret.OfTeam, "Ghosts"}, value("x"), 404},
		{astrid, house, wire.SecretValue{Value: "x", Everywhere: true, Form: "file", Path: &home}, 422}, {astrid, harbour, wire.SecretValue{Value: "x", Everywhere: true, Form: "build"}, 422},
		{astrid, house, wire.SecretValue{Value: "x", Everywhere: true, Branches: &[]string{"["}}, 422}, {astrid, house, wire.SecretValue{Value: "x", Everywhere: true, Mode: "400"}, 422}, {astrid, house, wire.SecretValue{Value: "x", Everywhere: true, Form: "file", Mode: "9"}, 422},
		{lead, harbour, value("of the team"), 0}, {astrid, house, value("of the house"), 0},
		{astrid, Whose{secret.OfRepository, "tide-board"}, wire.SecretValue{Value: "of the repository", Branches: &[]string{"release/*"}}, 0},
	} {
		if _, err := s.Secrets.Put(ctx, c.who, c.of, "KEY", c.in); status(err) != c.status {
			t.Errorf("%s sets %v of %v: %v", c.who.Name, c.in, c.of, err)
		}
	}
	if all, err := s.Secrets.List(ctx, ingrid, harbour); err != nil || len(all) != 1 || all[0].Team != "Harbour" || all[0].UsedAt != nil {
		t.Errorf("the team's are %+v, %v", all, err)
	}
	if _, err := s.Secrets.List(ctx, ingrid, decks); status(err) != 404 {
		t.Errorf("another team's are seen: %v", err)
	}
	given := func(branch, level, hides string) {
		t.Helper()
		all, err := s.Secrets.Explain(ctx, ingrid, "tide-board", Looked{Branch: branch, Name: "KEY"})
		if err != nil || !all[0].Given || all[0].Level != level || strings.Join(all[0].Hides, " ") != hides {
			t.Errorf("on %s it is %+v, %v", branch, all, err)
		}
	}
	given("main", "team", "house")
	given("release/7", "repository", "team house")
	if _, err := s.Secrets.Put(ctx, ingrid, Mine, "KEY", value("mine")); err != nil {
		t.Fatal(err)
	}
	given("main", "person", "team house")
	if all, err := s.Secrets.Explain(ctx, ingrid, "tide-board", Looked{Name: "KEYS"}); err != nil || len(all) != 1 || all[0].Level != "none" || !strings.Contains(all[0].Why, "is it KEY?") {
		t.Errorf("of a name that is not there it says %+v, %v", all, err)
	}
	row, err := s.rooms.Store.Read().WorkspaceByID(ctx, w.ID)
	if err != nil {
		t.Fatal(err)
	}
	process, opened, err := s.Secrets.sessions.Of(ctx, row)
	if err != nil || process.Env["KEY"] != "mine" || len(opened.Given) != 1 {
		t.Errorf("it is begun with %q, %v", process.Env["KEY"], err)
	}
	// What is used is noted once, within an hour.
	for range 2 {
		if err := s.Secrets.sessions.Used(ctx, opened.Given); err != nil {
			t.Fatal(err)
		}
	}
	if all, err := s.Secrets.List(ctx, ingrid, Mine); err != nil || all[0].UsedAt == nil {
		t.Errorf("it was not used: %+v, %v", all, err)
	}
	if err := s.Secrets.Drop(ctx, ingrid, harbour, "KEY"); status(err) != 403 {
		t.Errorf("a developer removes a team's: %v", err)
	}
	for _, of := range []Whose{harbour, house, Mine} {
		if err := s.Secrets.Drop(ctx, map[bool]Actor{true: astrid, false: ingrid}[of != Mine], of, "KEY"); err != nil {
			t.Errorf("%v: %v", of, err)
		}
	}
}

// Who may change a secret is reminded of it when it is older than the house rules like.
func TestAgingSecrets(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	for who, of := range map[*Actor]Whose{&ingrid: Mine, &astrid: {Level: secret.OfHouse}} {
		if _, err := s.Secrets.Put(ctx, *who, of, "KEY", wire.SecretValue{Value: "some value", Everywhere: true}); err != nil {
			t.Fatal(err)
		}
	}
	later := time.Now().Add(48 * time.Hour)
	for _, c := range []struct {
		who   Actor
		after time.Duration
		want  string
	}{{ingrid, 0, ""}, {ingrid, 72 * time.Hour, ""}, {ingrid, 24 * time.Hour, "KEY person"}, {astrid, 24 * time.Hour, "KEY house"}} {
		aging, err := s.Secrets.aging(ctx, c.who, c.after, later)
		got := ""
		for _, x := range aging {
			got += x.Name + " " + x.Level
		}
		if err != nil || got != c.want {
			t.Errorf("%s is reminded after %s of %q, %v", c.who.Name, c.after, got, err)
		}
	}
}

// The build of a branch mounts build secrets and has its images fetched with what signs in
// to registries. That of a pull request mounts none, whatever the house rules open, and
// has registries of the levels that they open.
func TestWhatBuildsAreGiven(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	w := addWorkspace(t, s, ingrid, "tide", lifecycle.Stopped)
	house := Whose{Level: secret.OfHouse}
	for name, in := range map[string]wire.SecretValue{"MIRROR": {Form: "build"}, "LAMPS": {Form: "registry", Registry: "lamps.skerryline.example", Username: "reader"}, "NOTICE": {}} {
		in.Value, in.Everywhere = "the value of "+name, true
		if _, err := s.Secrets.Put(ctx, astrid, house, name, in); err != nil {
			t.Fatal(err)
		}
	}
	given := func(branch string) string {
		t.Helper()
		w.Branch = branch
		o, err := s.Secrets.sessions.Images().ForBuild(ctx, w)
		if err != nil {
			t.Fatal(err)
		}
		return fmt.Sprintf("%d mounted, %v, masked: %s", len(o.Mounts), o.Registries, o.Mask.Mask("the value of LAMPS, the value of MIRROR"))
	}
	all := "1 mounted, map[lamps.skerryline.example:{reader the value of LAMPS}], masked: [secret LAMPS], [secret MIRROR]"
	if got := given("main"); got != all {
		t.Errorf("the build of a branch is given %s", got)
	}
	if got := given("refs/pull/3/head"); got != "0 mounted, map[], masked: the value of LAMPS, the value of MIRROR" {
		t.Errorf("that of a pull request is given %s", got)
	}
	if _, err := s.HouseRules.PutRules(ctx, astrid, wire.RulesText{Document: rules.First + "secrets: {pull_requests: [house]}\n", Reason: "for the test"}); err != nil {
		t.Fatal(err)
	}
	if got := given("refs/pull/3/head"); got != "0 mounted, map[lamps.skerryline.example:{reader the value of LAMPS}], masked: [secret LAMPS], the value of MIRROR" {
		t.Errorf("with the house's open that of a pull request is given %s", got)
	}
}
