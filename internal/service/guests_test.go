package service

import (
	"slices"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/page"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/core/secret"
	"yardbench/internal/store"
	"yardbench/wire"
)

// A guest works in what was named, with their own secrets alone, until a time; their
// team's lead has it last longer, or ends it.
func TestGuests(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	addWorkspace(t, s, ingrid, "tide", lifecycle.Stopped) // it registers tide-board
	if err := s.rooms.Store.Write(ctx, func(tx *store.Tx) error {
		return tx.AddRepository(ctx, store.Repository{ID: "other", Name: "fare-desk", URL: "http://git.skerryline.example/fare-desk.git", DefaultBranch: "main"})
	}); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"Harbour", "Decks"} {
		if _, err := s.People.AddTeam(ctx, astrid, wire.NewTeam{Name: name}); err != nil {
			t.Fatal(err)
		}
	}
	solveig := addPersonTo(t, s, "solveig", policy.Lead)
	harbour := "Harbour"
	if _, err := s.People.ChangePerson(ctx, astrid, "solveig", wire.PersonChange{Team: &harbour}); err != nil {
		t.Fatal(err)
	}
	again := func(name string) Actor {
		t.Helper()
		p, err := s.rooms.Store.Read().PersonByName(ctx, name)
		if err != nil {
			t.Fatal(err)
		}
		return Actor{Person: p}
	}
	solveig = again("solveig")
	now := time.Now()
	for _, c := range []struct {
		what   string
		who    Actor
		in     wire.NewGuest
		status int
	}{
		{"by a developer", ingrid, wire.NewGuest{Team: "Harbour", Until: now.Add(time.Hour), Repositories: []string{"tide-board"}}, 403},
		{"of another team", solveig, wire.NewGuest{Team: "Decks", Until: now.Add(time.Hour), Repositories: []string{"tide-board"}}, 403},
		{"of no team", astrid, wire.NewGuest{Until: now.Add(time.Hour), Repositories: []string{"tide-board"}}, 422},
		{"until yesterday", solveig, wire.NewGuest{Team: "Harbour", Until: now.Add(-time.Hour), Repositories: []string{"tide-board"}}, 422},
		{"for ever", solveig, wire.NewGuest{Team: "Harbour", Until: now.Add(500 * 24 * time.Hour), Repositories: []string{"tide-board"}}, 422},
		{"for no repository", solveig, wire.NewGuest{Team: "Harbour", Until: now.Add(time.Hour)}, 422},
		{"for one that is none", solveig, wire.NewGuest{Team: "Harbour", Until: now.Add(time.Hour), Repositories: []string{"ghost"}}, 404},
		{"of a size that is none", solveig, wire.NewGuest{Team: "Harbour", Until: now.Add(time.Hour), Repositories: []string{"tide-board"}, Sizes: []string{"vast"}}, 422},
	} {
		if _, err := s.Guests.Invite(ctx, c.who, c.in); status(err) != c.status {
			t.Errorf("a guest %s is answered %v", c.what, err)
		}
	}
	invite := func(until time.Time) wire.Enrolment {
		t.Helper()
		e, err := s.Guests.Invite(ctx, solveig, wire.NewGuest{Team: "Harbour", Until: until, Repositories: []string{"tide-board"}, Sizes: []string{"small"}})
		if err != nil {
			t.Fatal(err)
		}
		return e
	}
	_, key, _ := strings.Cut(invite(now.Add(10*24*time.Hour)).Link, "#")
	if o, err := s.People.Offer(ctx, key); err != nil || o.Role != "guest" || o.Team != "Harbour" {
		t.Errorf("the link offers %+v, %v", o, err)
	}
	made, err := s.People.UseEnrolment(ctx, wire.EnrolmentUse{Key: key, Name: "tormod", FullName: "Tormod Vik", Email: "tormod@elsewhere.example", Password: "rowing-past-the-light"})
	if err != nil || made.Role != "guest" || made.Team != "Harbour" {
		t.Fatalf("the guest is %+v, %v", made, err)
	}
	tormod := again("tormod")
	if tormod.Role != policy.Guest || tormod.Guest == nil {
		t.Fatalf("the records have %+v", tormod)
	}
	if _, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "tormod", Password: "rowing-past-the-light"}, "cli", Caller{Place: "192.0.2.1"}); err != nil {
		t.Fatal(err)
	}
	// Of what there is they see what was named.
	if all, err := s.Repositories.Repositories(ctx, tormod); err != nil || len(all) != 1 || all[0].Name != "tide-board" {
		t.Errorf("a guest sees %+v, %v", all, err)
	}
	if _, err := s.Launches.Launch(ctx, tormod, wire.Launch{Repository: "fare-desk"}); status(err) != 404 {
		t.Errorf("a guest launches what was not named: %v", err)
	}
	if _, err := s.Launches.order(ctx, tormod, wire.Launch{Repository: "tide-board", Size: "large"}); status(err) != 403 || !strings.Contains(err.Error(), "small") {
		t.Errorf("a guest asks for a large one: %v", err)
	}
	for what, err := range map[string]error{
		"the people":            second(s.People.People(ctx, tormod)),
		"guests":                second(s.Guests.List(ctx, tormod)),
		"a repository's secret": second(s.Secrets.List(ctx, tormod, Whose{secret.OfRepository, "tide-board"})),
		"the house's secrets":   second(s.Secrets.List(ctx, tormod, Whose{Level: secret.OfHouse})),
		"house rules":           second(s.HouseRules.Rules(ctx, tormod, page.Ask{})),
	} {
		if status(err) != 403 {
			t.Errorf("a guest sees %s: %v", what, err)
		}
	}
	if _, err := s.Secrets.List(ctx, tormod, Whose{secret.OfTeam, "Harbour"}); status(err) != 404 {
		t.Errorf("a guest sees the team's secrets: %v", err)
	}
	for _, of := range []Whose{{Level: secret.OfHouse}, {secret.OfTeam, "Harbour"}, {secret.OfRepository, "tide-board"}} {
		if _, err := s.Secrets.Put(ctx, astrid, of, "KEY_"+strings.ToUpper(string(of.Level)), wire.SecretValue{Value: "not for guests", Everywhere: of.Level != secret.OfRepository}); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := s.Secrets.Put(ctx, tormod, Mine, "OWN", wire.SecretValue{Value: "mine", Everywhere: true}); err != nil {
		t.Fatal(err)
	}
	w := addWorkspace(t, s, tormod, "visit", lifecycle.Stopped)
	row, err := s.rooms.Store.Read().WorkspaceByID(ctx, w.ID)
	if err != nil {
		t.Fatal(err)
	}
	if given, err := s.Secrets.sessions.Given(ctx, row); err != nil || len(given) != 1 || given[0].Name != "OWN" {
		t.Errorf("a guest's workspace is given %+v, %v", given, err)
	}
	// Neither a provider nor a directory makes more of a guest than they are.
	if err := s.rooms.Store.Write(ctx, func(tx *store.Tx) error {
		p := tormod.Person
		return s.Providers.placed(ctx, tx, store.Provider{ID: "x", Name: "skerry-id"}, &p, rules.Placed{Role: policy.Operator, Also: []rules.AlsoIn{{Team: "Harbour", Leads: true}}})
	}); err != nil || again("tormod").Role != policy.Guest {
		t.Errorf("groups make a guest %s, %v", again("tormod").Role, err)
	}
	// It is told before it ends, and ends by itself; who sees to it has it last longer.
	if g, err := s.Guests.Change(ctx, solveig, "tormod", wire.GuestChange{Until: pointerTo(now.Add(24 * time.Hour)), Sizes: &[]string{}}); err != nil || len(g.Sizes) != 0 || !slices.Equal(g.Repositories, []string{"tide-board"}) || g.By != "solveig" {
		t.Errorf("it is %+v, %v", g, err)
	}
	for range 2 {
		if err := s.Guests.due(ctx, tormod.ID); err != nil {
			t.Fatal(err)
		}
	}
	if ending, err := s.Guests.Ending(ctx, solveig); err != nil || len(ending) != 1 || ending[0].Name != "tormod" {
		t.Errorf("ending are %+v, %v", ending, err)
	}
	if ending, err := s.Guests.Ending(ctx, ingrid); err != nil || len(ending) != 0 {
		t.Errorf("a developer is told of %+v, %v", ending, err)
	}
	told := 0
	entries, err := s.Journal.Journal(ctx, astrid, JournalQuery{Limit: 200})
	for _, e := range entries {
		if e.Kind == "guest.ending" {
			told++
		}
	}
	if err != nil || told != 1 {
		t.Errorf("it was told %d times that it ends, %v", told, err)
	}
	real := s.Guests.now
	s.Guests.now = func() time.Time { return now.Add(25 * time.Hour) }
	if err := s.Guests.due(ctx, tormod.ID); err != nil || again("tormod").ClosedAt == nil {
		t.Errorf("it did not end: %v", err)
	}
	s.Guests.now = real
	if _, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "tormod", Password: "rowing-past-the-light"}, "cli", Caller{Place: "192.0.2.1"}); status(err) != 401 {
		t.Errorf("a guest whose access is over signs in: %v", err)
	}
	if _, err := s.Guests.Change(ctx, ingrid, "tormod", wire.GuestChange{Until: pointerTo(now.Add(time.Hour))}); status(err) != 404 {
		t.Errorf("a developer extends it: %v", err)
	}
	if _, err := s.Guests.Change(ctx, solveig, "tormod", wire.GuestChange{Until: pointerTo(now.Add(time.Hour))}); err != nil || again("tormod").ClosedAt != nil {
		t.Errorf("it is not opened again: %v", err)
	}
	if err := s.Guests.End(ctx, solveig, "ingrid"); status(err) != 404 {
		t.Errorf("who is no guest is ended: %v", err)
	}
	if err := s.Guests.End(ctx, solveig, "tormod"); err != nil || again("tormod").ClosedAt == nil {
		t.Errorf("it does not end: %v", err)
	}
	// Who is given a role is no guest any more.
	open := false
	if p, err := s.People.ChangePerson(ctx, astrid, "tormod", wire.PersonChange{Role: "developer", Closed: &open}); err != nil || p.Role != "developer" || again("tormod").Guest != nil {
		t.Errorf("it is %+v, %v", p, err)
	}
	// A link does not outlive the right of who made it.
	_, key, _ = strings.Cut(invite(now.Add(time.Hour)).Link, "#")
	if _, err := s.People.ChangePerson(ctx, astrid, "solveig", wire.PersonChange{Role: "developer"}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.People.Offer(ctx, key); status(err) != 404 {
		t.Errorf("the link of who leads nobody any more counts: %v", err)
	}
}

func pointerTo[T any](v T) *T { return &v }
