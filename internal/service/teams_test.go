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
	"yardbench/internal/store"
	"yardbench/wire"
)

// Somebody in several teams is in each what was said of it: a lead sees to the people,
// workspaces, secrets and guests of the teams they lead, and of no others.
func TestSeveralTeams(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	for _, name := range []string{"Harbour", "Decks", "Fares"} {
		if _, err := s.People.AddTeam(ctx, astrid, wire.NewTeam{Name: name}); err != nil {
			t.Fatal(err)
		}
	}
	for name, role := range map[string]policy.Role{"jonas": policy.Developer, "mats": policy.Developer, "solveig": policy.Lead, "vigdis": policy.Auditor} {
		addPersonTo(t, s, name, role)
	}
	change := func(name string, in wire.PersonChange) (wire.Person, error) {
		return s.People.ChangePerson(ctx, astrid, name, in)
	}
	is := func(name string) Actor {
		t.Helper()
		p, err := s.rooms.Store.Read().PersonByName(ctx, name)
		if err != nil {
			t.Fatal(err)
		}
		return Actor{Person: p}
	}
	for name, team := range map[string]string{"ingrid": "Fares", "jonas": "Harbour", "mats": "Decks", "solveig": "Decks"} {
		if _, err := change(name, wire.PersonChange{Team: &team}); err != nil {
			t.Fatal(err)
		}
	}
	addWorkspace(t, s, is("jonas"), "pier", lifecycle.Stopped)
	addWorkspace(t, s, is("mats"), "deck", lifecycle.Stopped)
	addWorkspace(t, s, ingrid, "tide", lifecycle.Stopped)

	// What cannot be said.
	also := func(m ...wire.NewMembership) wire.PersonChange { return wire.PersonChange{Also: &m} }
	fares := "fares"
	for what, c := range map[string]struct {
		who string
		in  wire.PersonChange
	}{
		"a team that is none":          {"ingrid", also(wire.NewMembership{Team: "Ghosts"})},
		"their own":                    {"ingrid", also(wire.NewMembership{Team: "fares", Leads: true})},
		"one that becomes their own":   {"jonas", wire.PersonChange{Team: &fares, Also: &[]wire.NewMembership{{Team: "Fares"}}}},
		"one twice":                    {"ingrid", also(wire.NewMembership{Team: "Decks"}, wire.NewMembership{Team: "decks", Leads: true})},
		"of an auditor":                {"vigdis", also(wire.NewMembership{Team: "Decks", Leads: true})},
		"of who becomes one with that": {"ingrid", wire.PersonChange{Role: "auditor", Also: &[]wire.NewMembership{{Team: "Decks"}}}},
	} {
		if _, err := change(c.who, c.in); err == nil {
			t.Errorf("%s was said", what)
		}
	}
	// ingrid is a developer of Fares, leads Harbour, and is in Decks.
	p, err := change("ingrid", also(wire.NewMembership{Team: "harbour", Leads: true}, wire.NewMembership{Team: "Decks"}))
	if err != nil || fmt.Sprint(p.Also) != "[{Decks false} {Harbour true}]" || p.Team != "Fares" {
		t.Fatalf("%+v, %v", p, err)
	}
	ingrid = is("ingrid")
	if ingrid.RoleIn(ingrid.TeamID) != policy.Developer {
		t.Errorf("in her own team she is %s", ingrid.RoleIn(ingrid.TeamID))
	}
	seen := func(a Actor) string {
		t.Helper()
		part, err := s.Workspaces.List(ctx, a, WorkspaceQuery{All: a.Widest(policy.SeeWorkspace) > policy.Own})
		if err != nil {
			t.Fatal(err)
		}
		var names []string
		for _, r := range part.Items {
			names = append(names, r.Name)
		}
		slices.Sort(names)
		return fmt.Sprint(names)
	}
	for name, want := range map[string]string{"ingrid": "[pier tide]", "jonas": "[pier]", "solveig": "[deck]", "astrid": "[deck pier tide]"} {
		if got := seen(is(name)); got != want {
			t.Errorf("%s sees %s, not %s", name, got, want)
		}
	}
	jonas, mats := is("jonas").Person, is("mats").Person
	for _, c := range []struct {
		action policy.Action
		of     store.Person
		may    bool
	}{
		{policy.SeeWorkspace, jonas, true}, {policy.StopWorkspace, jonas, true}, {policy.UseWorkspace, jonas, false}, {policy.RemoveWorkspace, jonas, false}, {policy.SeeJournal, jonas, true}, {policy.SeeCost, jonas, true},
		{policy.SeeWorkspace, mats, false}, {policy.StopWorkspace, mats, false}, {policy.SeeTeamSecrets, mats, true}, {policy.ChangeTeamSecret, mats, false}, {policy.ChangeTeamSecret, jonas, true}, {policy.ChangeGuests, jonas, true}, {policy.ChangeGuests, mats, false}, {policy.ChangeServices, mats, false},
		{policy.ChangeTeamSecret, is("ingrid").Person, false}, {policy.UseWorkspace, is("ingrid").Person, true},
	} {
		if got := ingrid.mayOf(c.action, c.of); got != c.may {
			t.Errorf("%s of %s: %v", c.action, c.of.Name, got)
		}
	}
	if ingrid.may(policy.ChangeRules) || !ingrid.may(policy.ChangeRepoSecret) || is("mats").may(policy.ChangeRepoSecret) {
		t.Error("of the house she may other than a lead")
	}
	if people, err := s.People.People(ctx, ingrid); err != nil || len(people) != 2 {
		t.Errorf("she sees %+v, %v", people, err)
	}
	if people, err := s.People.People(ctx, is("solveig")); err != nil || len(people) != 3 { // of Decks: mats, herself, and ingrid who is in it beside
		t.Errorf("solveig sees %+v, %v", people, err)
	}
	if _, err := s.People.Person(ctx, is("solveig"), "ingrid"); err != nil {
		t.Errorf("a lead does not find who is in her team: %v", err)
	}
	if _, err := s.People.Person(ctx, is("solveig"), "jonas"); err == nil {
		t.Error("a lead finds who is in none of her teams")
	}
	// Secrets of each team reach her, and she sets those of the one that she leads.
	team := func(name string) Whose { return Whose{Level: secret.OfTeam, Name: name} }
	for name, by := range map[string]Actor{"Harbour": ingrid, "Decks": is("solveig"), "Fares": astrid} {
		if _, err := s.Secrets.Put(ctx, by, team(name), "KEY_OF_"+name, wire.SecretValue{Value: "x", Everywhere: true}); err != nil {
			t.Errorf("%s of %s: %v", by.Name, name, err)
		}
	}
	if _, err := s.Secrets.Put(ctx, ingrid, team("Decks"), "OTHER", wire.SecretValue{Value: "x", Everywhere: true}); err == nil {
		t.Error("who is in a team sets its secrets")
	}
	w, err := s.rooms.Store.Read().PeoplesWorkspaces(ctx, store.Scope{OwnerID: ingrid.ID})
	if err != nil || len(w) != 1 {
		t.Fatal(w, err)
	}
	if given, err := s.Secrets.sessions.Given(ctx, w[0]); err != nil || len(given) != 3 {
		t.Errorf("her workspace is given %d secrets, %v", len(given), err)
	}
	if _, err := s.Guests.Invite(ctx, ingrid, wire.NewGuest{Team: "Harbour", Until: time.Now().Add(time.Hour), Repositories: []string{"tide-board"}}); err != nil {
		t.Errorf("she cannot invite a guest of the team that she leads: %v", err)
	}
	// A team that becomes one's own is one's own alone, with one's role there.
	own := "Harbour"
	if p, err := change("ingrid", wire.PersonChange{Team: &own}); err != nil || fmt.Sprint(p.Also) != "[{Decks false}]" || is("ingrid").RoleIn(is("ingrid").TeamID) != policy.Developer {
		t.Errorf("she is %+v, %v", p, err)
	}
	own = "Fares"
	if _, err := change("ingrid", wire.PersonChange{Team: &own}); err != nil {
		t.Fatal(err)
	}
	// It ends with the saying of it, and with the role.
	if _, err := change("ingrid", also()); err != nil || seen(is("ingrid")) != "[tide]" {
		t.Errorf("without them she sees %s, %v", seen(is("ingrid")), err)
	}
	if _, err := change("ingrid", also(wire.NewMembership{Team: "Harbour", Leads: true})); err != nil {
		t.Fatal(err)
	}
	if p, err := change("ingrid", wire.PersonChange{Role: "auditor"}); err != nil || len(p.Also) != 0 {
		t.Errorf("as an auditor she is %+v, %v", p, err)
	}
}

// A team has another name everywhere at once, unless what the house rules say of it would
// be of nobody then; one that has nobody and nothing goes, and comes back by its name with
// what was spent under it.
func TestTeamsChange(t *testing.T) {
	s, _, astrid := bare(t)
	ctx := t.Context()
	does := func(what string, want int, err error, says ...string) {
		t.Helper()
		if got := status(err); got != want {
			t.Errorf("%s: %d, not %d: %v", what, got, want, err)
		}
		for _, w := range says {
			if err == nil || !strings.Contains(err.Error(), w) {
				t.Errorf("%s: %v does not say %q", what, err, w)
			}
		}
	}
	add := func(name string) error {
		_, err := s.People.AddTeam(ctx, astrid, wire.NewTeam{Name: name})
		return err
	}
	rename := func(name, to string) error {
		_, err := s.People.RenameTeam(ctx, astrid, name, wire.TeamChange{Name: to})
		return err
	}
	remove := func(name string) error { return s.People.RemoveTeam(ctx, astrid, name) }
	put := func(teams string) {
		t.Helper()
		if _, err := s.HouseRules.PutRules(ctx, astrid, wire.RulesText{Document: strings.Replace(rules.First, "limits:\n", "limits:\n  teams: {"+teams+"}\n", 1), Reason: "for the test"}); err != nil {
			t.Fatal(err)
		}
	}
	does("add", 0, add("Lamps"))
	does("add", 0, add("Buoys"))
	id, err := s.People.store.Read().TeamByName(ctx, "Lamps")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.People.store.Write(ctx, func(tx *store.Tx) error {
		return tx.AddRepository(ctx, store.Repository{ID: "lamp-list", Name: "lamp-list", URL: "https://git.example/lamp-list.git", DefaultBranch: "main", TeamID: id.ID})
	}); err != nil {
		t.Fatal(err)
	}
	of := func(want string) {
		t.Helper()
		if r, err := s.People.store.Read().RepositoryByID(ctx, "lamp-list"); err != nil || r.Team != want {
			t.Errorf("the repository is of %q, %v", r.Team, err)
		}
	}
	of("Lamps")
	put("Lamps: {running: 2}")
	does("rename what the rules name", 409, rename("Lamps", "Lanterns"), "house rules")
	does("remove what the rules name", 409, remove("Lamps"), "house rules")
	put("Lamps: {running: 2}, Lanterns: {running: 2}")
	does("rename to another's", 409, rename("Lamps", "buoys"))
	does("rename to nothing", 422, rename("Lamps", " "))
	does("rename what is not there", 404, rename("Masts", "Lanterns"))
	does("rename", 0, rename("Lamps", "Lanterns"))
	of("Lanterns")
	does("as it is written", 0, rename("Lanterns", "LANTERNS"))
	put("Buoys: {running: 3}")
	ingrid, none, lanterns := "ingrid", "", "LANTERNS"
	if _, err := s.People.ChangePerson(ctx, astrid, ingrid, wire.PersonChange{Team: &lanterns}); err != nil {
		t.Fatal(err)
	}
	does("remove with people", 409, remove("LANTERNS"), "people in it: 1")
	if _, err := s.People.ChangePerson(ctx, astrid, ingrid, wire.PersonChange{Team: &none}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Secrets.Put(ctx, astrid, Whose{Level: secret.OfTeam, Name: "LANTERNS"}, "KEY", wire.SecretValue{Value: "some value", Everywhere: true}); err != nil {
		t.Fatal(err)
	}
	does("remove with secrets", 409, remove("LANTERNS"), "secrets: 1")
	if err := s.Secrets.Drop(ctx, astrid, Whose{Level: secret.OfTeam, Name: "LANTERNS"}, "KEY"); err != nil {
		t.Fatal(err)
	}
	does("remove with a repository", 409, remove("LANTERNS"), "repositories: 1")
	if err := s.People.store.Write(ctx, func(tx *store.Tx) error { return tx.RemoveRepository(ctx, "lamp-list") }); err != nil {
		t.Fatal(err)
	}
	does("remove", 0, remove("LANTERNS"))
	does("again", 404, remove("LANTERNS"))
	does("rename to one that was", 409, rename("Buoys", "LANTERNS"))
	does("add it again", 0, add("LANTERNS"))
	if again, err := s.People.store.Read().TeamByName(ctx, "LANTERNS"); err != nil || again.ID != id.ID {
		t.Errorf("it is %+v, %v, not %+v", again, err, id)
	}
}

// What providers and directories call people keeps its dots and dashes.
func TestNames(t *testing.T) {
	for from, want := range map[string]string{"jan.erik@skerryline.example": "jan.erik", "Anna-Lena Ås": "anna-lena-as", "j__doe": "j-doe", "..x..y-": "x.y", "42": "person", "Øyvind.Lie": "oyvind.lie"} {
		if got := plainName(from); got != want || !personName.MatchString(got) {
			t.Errorf("%q is called %q, not %q", from, got, want)
		}
	}
	for name, ok := range map[string]bool{"jan.erik": true, "anna-lena": true, "x": true, "a..b": false, "a.": false, "-a": false, ".a": false, "a.-b": false, strings.Repeat("ab.", 11) + "a": false} {
		if err := checkAccount(store.Person{Name: name, FullName: "A", Email: "a@skerryline.example"}); (err == nil) != ok {
			t.Errorf("%q is taken: %v", name, err)
		}
	}
}
