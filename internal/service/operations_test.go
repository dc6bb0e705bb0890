package service

import (
	"context"
	"fmt"
	"testing"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/operation"
	"yardbench/internal/core/page"
	"yardbench/internal/store"
	"yardbench/wire"
)

// operating has operations be driven as in a service that runs; with none at a
// time until more is called.
func operating(t *testing.T, s *inner) (more func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	t.Cleanup(func() { cancel(); s.Operations.Wait() })
	for range operationAtOnce {
		s.Operations.turn <- struct{}{}
	}
	if err := s.Operations.Run(ctx); err != nil {
		t.Fatal(err)
	}
	return func() {
		for range operationAtOnce {
			<-s.Operations.turn
		}
	}
}

func settled(t *testing.T, s *inner, a Actor, id string) wire.Operation {
	t.Helper()
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		if o, err := s.Operations.Show(t.Context(), a, id); err != nil || o.EndedAt != nil {
			return o
		}
	}
	t.Fatal("the operation does not come to an end")
	return wire.Operation{}
}

// An operation that is cancelled leaves those alone whose turn has not come, and
// so does one whose asker is gone.
func TestOperationsEndWithTheirGround(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	for n := range 20 {
		addWorkspace(t, s, ingrid, fmt.Sprint("w", n), lifecycle.Stopped)
	}
	all := wire.NewOperation{Verb: "let rest", Where: &wire.WorkspaceWhere{}}
	more := operating(t, s)
	o, err := s.Operations.Make(ctx, ingrid, all)
	if err != nil || o.Waiting != 20 {
		t.Fatalf("%+v, %v", o, err)
	}
	if _, err := s.Operations.Cancel(ctx, addPersonTo(t, s, "mats", "developer"), o.ID); status(err) != 404 {
		t.Errorf("somebody else cancels it: %v", err)
	}
	if o, err = s.Operations.Cancel(ctx, astrid, o.ID); err != nil || o.Cancelled != 20 || o.CancelledBy != "astrid" {
		t.Errorf("cancelled, it is %+v, %v", o, err)
	}
	if _, err = s.Operations.Cancel(ctx, astrid, o.ID); status(err) != 409 {
		t.Errorf("cancelled again, it is answered %v", err)
	}
	closed, err := s.Operations.Make(ctx, ingrid, all)
	if err != nil {
		t.Fatal(err)
	}
	made := 1 // the cancelled one may be over, or wait for its turn
	for err = nil; err == nil && made <= operationsOpen; made++ {
		_, err = s.Operations.Make(ctx, ingrid, all)
	}
	if status(err) != 409 || made < operationsOpen-1 {
		t.Errorf("a person has any number under way: %d, then %v", made, err)
	}
	if err := s.rooms.Store.Write(ctx, func(tx *store.Tx) error { return tx.CloseAccount(ctx, ingrid.ID, true) }); err != nil {
		t.Fatal(err)
	}
	more()
	if o := settled(t, s, astrid, closed.ID); o.Cancelled != 20 || o.Done != 0 {
		t.Errorf("asked by somebody whose account is closed, it came to %+v", o)
	}
	part, err := s.Operations.Outcomes(ctx, astrid, closed.ID, []string{"cancelled"}, page.Ask{Limit: 1})
	if err != nil || len(part.Items) != 1 || part.Next == "" || part.Items[0].Detail != "the account of who asked for it is closed" {
		t.Errorf("they are told as %+v, %v", part, err)
	}
}

// An operation ends with the token by which it was asked, and not with a sign-in.
func TestOperationsEndWithTheirToken(t *testing.T) {
	s, ingrid, _ := bare(t)
	ctx := t.Context()
	addWorkspace(t, s, ingrid, "w", lifecycle.Stopped)
	more := operating(t, s)
	made, err := s.SignIns.MakeToken(ctx, ingrid, wire.NewToken{Name: "x", Scopes: []string{"work"}})
	if err != nil {
		t.Fatal(err)
	}
	in, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "long enough"}, "cli", Caller{})
	if err != nil {
		t.Fatal(err)
	}
	var asked []wire.Operation
	for _, by := range []string{made.Value, in.Token} {
		a, err := s.SignIns.Authenticate(ctx, by)
		if err != nil {
			t.Fatal(err)
		}
		o, err := s.Operations.Make(ctx, a, wire.NewOperation{Verb: "let rest", Names: []string{"w"}})
		if err != nil {
			t.Fatal(err)
		}
		asked = append(asked, o)
		if err := s.SignIns.EndToken(ctx, ingrid, a.TokenID); err != nil {
			t.Fatal(err)
		}
	}
	more()
	if o := settled(t, s, ingrid, asked[0].ID); o.Cancelled != 1 {
		t.Errorf("without its token it came to %+v", o)
	}
	if o := settled(t, s, ingrid, asked[1].ID); o.Done != 1 {
		t.Errorf("after a sign-out it came to %+v", o)
	}
}

// What was asked before the service ended is not asked again after the next start,
// whether the answer was written or not; what was not asked is.
func TestOperationsGoOnAfterARestart(t *testing.T) {
	s, ingrid, _ := bare(t)
	ctx := t.Context()
	for n := range 3 {
		addWorkspace(t, s, ingrid, fmt.Sprint("w", n), lifecycle.Ready)
	}
	more := operating(t, s)
	o, err := s.Operations.Make(ctx, ingrid, wire.NewOperation{Verb: "tell", Where: &wire.WorkspaceWhere{}, Reason: "a storm"})
	if err != nil {
		t.Fatal(err)
	}
	row, err := s.rooms.Store.Read().OperationByID(ctx, o.ID)
	if err != nil {
		t.Fatal(err)
	}
	// The first was asked, and the service ended before that was written down.
	key := store.Asked{PersonID: ingrid.ID, Key: "operation " + o.ID + " 1", What: []byte{}}
	if err := s.Operations.verb(store.Once(ctx, key), ingrid, row, "w0"); err != nil {
		t.Fatal(err)
	}
	if err := s.Operations.set(ctx, row, store.Outcome{Number: 1, State: operation.UnderWay}); err != nil {
		t.Fatal(err)
	}
	// The second's beginning was written down, and it was not asked.
	if err := s.Operations.set(ctx, row, store.Outcome{Number: 2, State: operation.UnderWay}); err != nil {
		t.Fatal(err)
	}
	more()
	if o := settled(t, s, ingrid, o.ID); o.Done != 3 {
		t.Errorf("it came to %+v", o)
	}
	told, err := s.rooms.Store.Read().Journal(ctx, store.JournalFilter{Kind: "workspace.told", Limit: 100})
	if err != nil || len(told) != 3 {
		t.Errorf("they were told %d times, %v", len(told), err)
	}
}
