package service

import (
	"context"
	"errors"
	"strings"
	"sync"
	"testing"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/secret"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Guesses at the same time are not more than guesses one after the other.
func TestGuessesAtOnce(t *testing.T) {
	s, _, _ := bare(t)
	ctx := t.Context()
	var mu sync.Mutex
	answers := map[int]int{}
	var wg sync.WaitGroup
	for range 25 {
		wg.Go(func() {
			_, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "a wrong one"}, "cli", Caller{Place: "192.0.2.7"})
			mu.Lock()
			defer mu.Unlock()
			answers[status(err)]++
			if status(err) == 429 && (wire.ProblemOf(err).GetHeaders().Get("Retry-After") == "") {
				t.Errorf("nothing says when to come again: %v", err)
			}
		})
	}
	wg.Wait()
	if answers[401] > 10 || answers[401]+answers[429] != 25 {
		t.Errorf("answered %v", answers)
	}
}

// before has something else written just before the next write.
func before(s *inner, first func(*store.Tx) error) {
	done := false
	s.rooms.Store.Hook(store.Hooks{Around: func(_ context.Context, commit func() error) error {
		if !done {
			done = true
			if err := s.rooms.Store.Write(context.Background(), first); err != nil {
				return err
			}
		}
		return commit()
	}})
}

// What one changes of a person does not undo what another has changed
// meanwhile: an account that was closed stays closed.
func TestChangesOfPeopleAtOnce(t *testing.T) {
	ctx := t.Context()
	closed := func(t *testing.T, s *inner) {
		t.Helper()
		p, err := s.rooms.Store.Read().PersonByName(ctx, "ingrid")
		if err != nil || p.ClosedAt == nil {
			t.Errorf("the account is open again, %v", err)
		}
	}
	shut := func(s *inner) func(tx *store.Tx) error {
		p, err := s.rooms.Store.Read().PersonByName(ctx, "ingrid")
		if err != nil {
			t.Fatal(err)
		}
		return func(tx *store.Tx) error { return tx.CloseAccount(ctx, p.ID, true) }
	}
	t.Run("a change of team", func(t *testing.T) {
		s, _, _ := bare(t)
		operator := Actor{Person: store.Person{ID: "o", Name: "astrid", Role: policy.Operator}}
		if _, err := s.People.AddTeam(ctx, operator, wire.NewTeam{Name: "Harbour"}); err != nil {
			t.Fatal(err)
		}
		if _, err := s.People.AddTeam(ctx, operator, wire.NewTeam{Name: "harbour"}); status(err) != 409 {
			t.Errorf("a team twice: %v", err)
		}
		before(s, shut(s))
		team := "Harbour"
		if p, err := s.People.ChangePerson(ctx, operator, "ingrid", wire.PersonChange{Team: &team}); err != nil || !p.Closed || p.Team != "Harbour" {
			t.Errorf("changed to %+v, %v", p, err)
		}
		closed(t, s)
	})
	t.Run("a new password", func(t *testing.T) {
		s, _, operator := bare(t)
		link, err := s.People.Enrol(ctx, operator, wire.NewEnrolment{Person: "ingrid"})
		if err != nil {
			t.Fatal(err)
		}
		before(s, shut(s))
		if _, err := s.People.UseEnrolment(ctx, wire.EnrolmentUse{Key: link.Link[len(link.Link)-len("yb_link_")-43:], Password: "another long one"}); status(err) != 404 {
			t.Errorf("a link that ended with the account meanwhile is answered %v", err)
		}
		closed(t, s)
	})
}

// Who is signed in may look while nothing can be written.
func TestBeingSignedInNeedsNoWrite(t *testing.T) {
	s, _, _ := bare(t)
	ctx := t.Context()
	in, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "long enough"}, "cli", Caller{})
	if err != nil {
		t.Fatal(err)
	}
	s.rooms.Store.Hook(store.Hooks{Around: func(context.Context, func() error) error { return store.ErrFull }})
	s.SignIns.now = func() time.Time { return time.Now().Add(time.Hour) }
	if a, err := s.SignIns.Authenticate(ctx, in.Token); err != nil || a.Name != "ingrid" {
		t.Errorf("with a full disk: %+v, %v", a, err)
	}
}

// A link is used once, until it ends, for what it was made for.
func TestEnrolment(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	if _, err := s.People.Enrol(ctx, ingrid, wire.NewEnrolment{Role: "operator"}); status(err) != 403 {
		t.Errorf("a developer makes an operator: %v", err)
	}
	if _, err := s.People.AddTeam(ctx, astrid, wire.NewTeam{Name: "Harbour"}); err != nil {
		t.Fatal(err)
	}
	for what, in := range map[string]wire.NewEnrolment{"unknown team": {Team: "Deep Sea"}, "unknown person": {Person: "nobody"}} {
		if _, err := s.People.Enrol(ctx, astrid, in); status(err) != 404 {
			t.Errorf("%s is answered %v", what, err)
		}
	}
	e, err := s.People.Enrol(ctx, astrid, wire.NewEnrolment{Role: "lead", Team: "harbour"})
	if err != nil {
		t.Fatal(err)
	}
	_, key, _ := strings.Cut(e.Link, "#")
	if o, err := s.People.Offer(ctx, key); err != nil || o.Role != "lead" || o.Team != "Harbour" {
		t.Errorf("the link offers %+v, %v", o, err)
	}
	use := wire.EnrolmentUse{Key: key, Name: "solveig", FullName: "Solveig Berg", Email: "solveig@skerryline.example", Password: "long enough"}
	for _, c := range []struct {
		what   string
		change func(*wire.EnrolmentUse)
		status int
	}{
		{"a guessed key", func(u *wire.EnrolmentUse) { u.Key = "yb_link_guess" }, 404}, {"a name that is none", func(u *wire.EnrolmentUse) { u.Name = "Solveig Berg" }, 422},
		{"a name that is taken", func(u *wire.EnrolmentUse) { u.Name = "ingrid" }, 409}, {"a short password", func(u *wire.EnrolmentUse) { u.Password = "short" }, 422},
		{"no address", func(u *wire.EnrolmentUse) { u.Email = "Solveig <s@x.example>" }, 422}, {"no full name", func(u *wire.EnrolmentUse) { u.FullName = " " }, 422},
	} {
		u := use
		c.change(&u)
		if _, err := s.People.UseEnrolment(ctx, u); status(err) != c.status {
			t.Errorf("%s is answered %v", c.what, err)
		}
	}
	if p, err := s.People.UseEnrolment(ctx, use); err != nil || p.Role != "lead" || p.Team != "Harbour" {
		t.Fatalf("it makes %+v, %v", p, err)
	}
	use.Name = "another"
	if _, err := s.People.UseEnrolment(ctx, use); status(err) != 404 {
		t.Errorf("used twice, it is answered %v", err)
	}
	// A new password for somebody ends what they were signed in with.
	in, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "long enough"}, "cli", Caller{})
	if err != nil {
		t.Fatal(err)
	}
	again, err := s.People.Enrol(ctx, astrid, wire.NewEnrolment{Person: "ingrid"})
	if err != nil {
		t.Fatal(err)
	}
	_, key, _ = strings.Cut(again.Link, "#")
	if _, err := s.People.UseEnrolment(ctx, wire.EnrolmentUse{Key: key, Password: "another one", Name: "mats"}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.SignIns.Authenticate(ctx, in.Token); status(err) != 401 {
		t.Errorf("after a new password the old sign-in is answered %v", err)
	}
	if _, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "another one"}, "cli", Caller{}); err != nil {
		t.Errorf("the new password is answered %v", err)
	}
	if link, needed, err := s.People.FirstEnrolment(ctx); needed || link != "" || err != nil {
		t.Errorf("a service that knows people offers a first link: %q, %v", link, err)
	}
	s.People.now = func() time.Time { return time.Now().Add(73 * time.Hour) }
	late, err := s.People.Enrol(ctx, astrid, wire.NewEnrolment{})
	if err != nil {
		t.Fatal(err)
	}
	s.People.now = func() time.Time { return time.Now().Add(146 * time.Hour) }
	_, key, _ = strings.Cut(late.Link, "#")
	if _, err := s.People.Offer(ctx, key); status(err) != 404 {
		t.Errorf("a link that has ended is answered %v", err)
	}
}

// A link counts while whoever made it may make links, and is taken back with
// them, with whom it was for, or by hand.
func TestLinksEndWithWhoMadeThem(t *testing.T) {
	ctx := t.Context()
	for name, end := range map[string]func(s *inner, boss Actor, haldor Actor, id string) error{
		"closing who made it": func(s *inner, boss, haldor Actor, _ string) error {
			yes := true
			_, err := s.People.ChangePerson(ctx, boss, "haldor", wire.PersonChange{Closed: &yes})
			return err
		},
		"another role for who made it": func(s *inner, boss, haldor Actor, _ string) error {
			_, err := s.People.ChangePerson(ctx, boss, "haldor", wire.PersonChange{Role: "lead"})
			return err
		},
		"closing whom it is for": func(s *inner, boss, haldor Actor, _ string) error {
			yes := true
			_, err := s.People.ChangePerson(ctx, boss, "ingrid", wire.PersonChange{Closed: &yes})
			return err
		},
		"taking it back": func(s *inner, boss, haldor Actor, id string) error { return s.People.EndEnrolment(ctx, boss, id) },
	} {
		s, ingrid, boss := bare(t)
		haldor := addPersonTo(t, s, "haldor", policy.Operator)
		own, err := s.People.Enrol(ctx, boss, wire.NewEnrolment{Role: "auditor"})
		if err != nil {
			t.Fatal(err)
		}
		in := wire.NewEnrolment{Role: "operator"}
		if name == "closing whom it is for" {
			in = wire.NewEnrolment{Person: "ingrid"}
		}
		e, err := s.People.Enrol(ctx, haldor, in)
		if err != nil {
			t.Fatal(err)
		}
		open, err := s.People.Enrolments(ctx, boss)
		if err != nil || len(open) != 2 || open[0].MadeBy != "haldor" || open[1].MadeBy != "astrid" {
			t.Fatalf("%s: open are %+v, %v", name, open, err)
		}
		if _, err := s.People.Enrolments(ctx, ingrid); status(err) != 403 {
			t.Errorf("a developer sees links: %v", err)
		}
		if err := s.People.EndEnrolment(ctx, ingrid, open[0].ID); status(err) != 403 {
			t.Errorf("a developer ends links: %v", err)
		}
		if err := end(s, boss, haldor, open[0].ID); err != nil {
			t.Fatal(err)
		}
		_, key, _ := strings.Cut(e.Link, "#")
		if _, err := s.People.UseEnrolment(ctx, wire.EnrolmentUse{Key: key, Name: "backdoor", FullName: "Back Door", Email: "b@skerryline.example", Password: "long enough"}); status(err) != 404 {
			t.Errorf("after %s it is answered %v", name, err)
		}
		_, key, _ = strings.Cut(own.Link, "#")
		if _, err := s.People.Offer(ctx, key); err != nil {
			t.Errorf("after %s another's link is answered %v", name, err)
		}
		if open, err = s.People.Enrolments(ctx, boss); err != nil || len(open) != 1 {
			t.Errorf("after %s open are %+v, %v", name, open, err)
		}
		if err := s.People.EndEnrolment(ctx, boss, "nothing"); status(err) != 404 {
			t.Errorf("a link that is not there is answered %v", err)
		}
	}
}

// Closing an account ends everything it was signed in with; nobody takes their
// own away; tokens are their owner's alone.
func TestAccountsAndTokens(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	yes, no := true, false
	token, err := s.SignIns.MakeToken(ctx, ingrid, wire.NewToken{Name: "nightly report", Days: 2})
	if err != nil || time.Until(token.ExpiresAt) > 49*time.Hour {
		t.Fatalf("made %+v, %v", token, err)
	}
	if err := s.SignIns.EndToken(ctx, astrid, token.ID); status(err) != 404 {
		t.Errorf("somebody else ends a token: %v", err)
	}
	if a, err := s.SignIns.Authenticate(ctx, token.Value); err != nil || a.Name != "ingrid" {
		t.Errorf("the token is %s's, %v", a.Name, err)
	}
	if list, err := s.SignIns.Tokens(ctx, ingrid); err != nil || len(list) != 1 || list[0].Name != "nightly report" || list[0].LastUsedAt == nil {
		t.Errorf("listed are %+v, %v", list, err)
	}
	if _, err := s.People.ChangePerson(ctx, astrid, "ingrid", wire.PersonChange{Closed: &yes}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.SignIns.Authenticate(ctx, token.Value); status(err) != 401 {
		t.Errorf("the token of a closed account is answered %v", err)
	}
	if _, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "long enough"}, "cli", Caller{}); status(err) != 401 {
		t.Errorf("a closed account signs in: %v", err)
	}
	if p, err := s.People.ChangePerson(ctx, astrid, "ingrid", wire.PersonChange{Closed: &no, Role: "auditor"}); err != nil || p.Closed || p.Role != "auditor" {
		t.Errorf("opened again it is %+v, %v", p, err)
	}
	for what, ch := range map[string]wire.PersonChange{"role": {Role: "developer"}, "account": {Closed: &yes}} {
		if _, err := s.People.ChangePerson(ctx, astrid, "astrid", ch); status(err) != 409 {
			t.Errorf("the last operator takes their own %s away: %v", what, err)
		}
	}
	if _, err := s.People.ChangePerson(ctx, astrid, "nobody", wire.PersonChange{}); status(err) != 404 {
		t.Errorf("somebody unknown is answered %v", err)
	}
}

// Somebody who has left is erased: nothing in the records tells who they were,
// and the journal with what they did is whole.
func TestErased(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	if _, err := s.Secrets.Put(ctx, ingrid, Mine, "MAST_KEY", wire.SecretValue{Value: "hush-hush", Everywhere: true}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "long enough"}, "cli", Caller{}); err != nil {
		t.Fatal(err)
	}
	if err := s.Tastes.Keep(ctx, ingrid, "fleet-views", map[string]string{"mine": "team=Harbour"}); err != nil {
		t.Fatal(err)
	}
	w := addWorkspace(t, s, ingrid, "quay", lifecycle.Stopped)
	operating(t, s)()
	o, err := s.Operations.Make(ctx, astrid, wire.NewOperation{Verb: "tell", Names: []string{"quay.ingrid"}, Reason: "a storm"})
	if err != nil || settled(t, s, astrid, o.ID).Done != 1 {
		t.Fatal(err)
	}
	if err := s.People.ErasePerson(ctx, astrid, "ingrid"); status(err) != 409 || !strings.Contains(err.Error(), "open account") {
		t.Errorf("with an open account: %v", err)
	}
	yes := true
	if _, err := s.People.ChangePerson(ctx, astrid, "ingrid", wire.PersonChange{Closed: &yes}); err != nil {
		t.Fatal(err)
	}
	if err := s.People.ErasePerson(ctx, astrid, "ingrid"); status(err) != 409 || !strings.Contains(err.Error(), "quay.ingrid") {
		t.Errorf("with a workspace: %v", err)
	}
	if err := s.rooms.Store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(tx.SetPhase(ctx, &w, lifecycle.Removing, astrid.ID, ""), tx.SetPhase(ctx, &w, lifecycle.Removed, "service", ""))
	}); err != nil {
		t.Fatal(err)
	}
	if err := s.People.ErasePerson(ctx, astrid, "ingrid"); err != nil {
		t.Fatal(err)
	}
	p, err := s.rooms.Store.Read().PersonByID(ctx, ingrid.ID)
	if err != nil || p.ClosedAt == nil || p.Email != "" || !strings.HasPrefix(p.Name, "gone") {
		t.Fatalf("erased, she is %+v, %v", p, err)
	}
	if err := s.People.ErasePerson(ctx, astrid, "ingrid"); status(err) != 404 {
		t.Errorf("erased again: %v", err)
	}
	if _, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: p.Name, Password: "long enough"}, "cli", Caller{}); status(err) != 401 {
		t.Errorf("she signs in: %v", err)
	}
	q := s.rooms.Store.Read()
	if left, err := q.Secrets(ctx, store.SecretsOf{Level: secret.OfPerson, SubjectID: ingrid.ID}); err != nil || len(left) > 0 {
		t.Errorf("of her secrets there are left %v, %v", left, err)
	}
	if left, err := q.TastesOf(ctx, ingrid.ID); err != nil || len(left) > 0 {
		t.Errorf("of what she likes there are left %v, %v", left, err)
	}
	if err := q.VerifyJournal(ctx); err != nil {
		t.Error(err)
	}
	entries, err := q.Journal(ctx, store.JournalFilter{Person: ingrid.ID, Limit: 100})
	if err != nil || len(entries) < 5 {
		t.Fatalf("the journal has %d entries of her, %v", len(entries), err)
	}
	of, err := q.Outcomes(ctx, o.ID)
	if err != nil || len(of) != 1 || of[0].Name != "quay."+p.Name {
		t.Errorf("an operation's outcomes are %+v, %v", of, err)
	}
	theirs, err := q.Journal(ctx, store.JournalFilter{Person: astrid.ID, Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range append(entries, theirs...) {
		if text := string(e.Data) + e.Subject + e.Actor; strings.Contains(text, "ingrid") || strings.Contains(text, "astrid") {
			t.Errorf("entry %d, %s, tells who she was: %s", e.Number, e.Kind, text)
		}
	}
	if err := s.People.ErasePerson(ctx, astrid, "astrid"); status(err) != 409 {
		t.Errorf("an operator erases herself: %v", err)
	}
}
