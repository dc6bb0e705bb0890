package service

import (
	"context"
	"sync"
	"testing"
	"time"

	"yardbench/internal/core/policy"
	"yardbench/internal/store"
	"yardbench/internal/wire"
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
			_, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "a wrong one"}, "cli", "192.0.2.7")
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
func before(s *Service, first func(*store.Tx) error) {
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
	closed := func(t *testing.T, s *Service) {
		t.Helper()
		p, err := s.rooms.Store.Read().PersonByName(ctx, "ingrid")
		if err != nil || p.ClosedAt == nil {
			t.Errorf("the account is open again, %v", err)
		}
	}
	shut := func(s *Service) func(tx *store.Tx) error {
		p, err := s.rooms.Store.Read().PersonByName(ctx, "ingrid")
		if err != nil {
			t.Fatal(err)
		}
		return func(tx *store.Tx) error { return tx.CloseAccount(ctx, p.ID, true) }
	}
	t.Run("a change of team", func(t *testing.T) {
		s, _, _ := bare(t)
		operator := Actor{Person: store.Person{ID: "o", Name: "astrid", Role: policy.Operator}}
		if _, err := s.People.AddTeam(ctx, operator, wire.Team{Name: "Harbour"}); err != nil {
			t.Fatal(err)
		}
		if _, err := s.People.AddTeam(ctx, operator, wire.Team{Name: "harbour"}); status(err) != 409 {
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
		s, _, _ := bare(t)
		operator := Actor{Person: store.Person{ID: "o", Name: "astrid", Role: policy.Operator}}
		link, err := s.People.Enrol(ctx, operator, wire.NewEnrolment{Person: "ingrid"})
		if err != nil {
			t.Fatal(err)
		}
		before(s, shut(s))
		if _, err := s.People.UseEnrolment(ctx, wire.EnrolmentUse{Key: link.Link[len(link.Link)-len("yb_link_")-43:], Password: "another long one"}); err != nil {
			t.Fatal(err)
		}
		closed(t, s)
	})
}

// Who is signed in may look while nothing can be written.
func TestBeingSignedInNeedsNoWrite(t *testing.T) {
	s, _, _ := bare(t)
	ctx := t.Context()
	in, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "long enough"}, "cli", "")
	if err != nil {
		t.Fatal(err)
	}
	s.rooms.Store.Hook(store.Hooks{Around: func(context.Context, func() error) error { return store.ErrFull }})
	s.SignIns.now = func() time.Time { return time.Now().Add(time.Hour) }
	if a, err := s.SignIns.Authenticate(ctx, in.Token); err != nil || a.Name != "ingrid" {
		t.Errorf("with a full disk: %+v, %v", a, err)
	}
}
