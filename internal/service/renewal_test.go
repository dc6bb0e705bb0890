package service

import (
	"context"
	"testing"
	"time"

	"yardbench/internal/store"
	"yardbench/wire"
)

// A sign-in of the command line has another value from when that is used, and not before:
// an answer may be lost. The earlier one is good for a while, for what began with it, and
// renews nothing; and all end with the sign-in.
func TestSignInsAreRenewed(t *testing.T) {
	s, ingrid, _ := bare(t)
	ctx := t.Context()
	now := time.Now()
	s.SignIns.now = func() time.Time { return now }
	in := func(door string) string {
		t.Helper()
		out, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "long enough"}, door, Caller{})
		if err != nil {
			t.Fatal(err)
		}
		return out.Token
	}
	as := func(token string) (Actor, int) {
		a, err := s.SignIns.Authenticate(ctx, token)
		return a, status(err)
	}
	renewed := func(token string) string {
		t.Helper()
		a, _ := as(token)
		out, err := s.SignIns.Renew(ctx, a)
		if err != nil {
			t.Fatal(err)
		}
		return out.Token
	}
	first := in("cli")
	lost := renewed(first) // its answer does not come
	second := renewed(first)
	if _, got := as(lost); got != 401 {
		t.Errorf("what a later renewal took back is answered %d", got)
	}
	a, _ := as(first)
	b, got := as(second)
	if got != 0 || a.TokenID != b.TokenID || a.Earlier || b.Earlier {
		t.Errorf("it is %+v, and by its newer value %+v, %d", a, b, got)
	}
	a, got = as(first) // the newer one was used
	if got != 0 || !a.Earlier {
		t.Errorf("for a while the earlier value gives %+v, %d", a, got)
	}
	if _, err := s.SignIns.Renew(ctx, a); status(err) != 409 {
		t.Errorf("the earlier value renews: %v", err)
	}
	third := renewed(second)
	for range 2 {
		if _, got := as(third); got != 0 {
			t.Errorf("the third is answered %d", got)
		}
	}
	if _, got := as(first); got != 401 {
		t.Errorf("two values before, it is answered %d", got)
	}
	now = now.Add(earlierGood + time.Second)
	if _, got := as(second); got != 401 {
		t.Errorf("after a while the earlier one is answered %d", got)
	}
	if n := values(ctx, t, s.rooms.Store, ingrid.ID); n != 1 {
		t.Errorf("it has %d sign-ins", n)
	}

	// Ends with the sign-in, whichever value is asked by.
	fourth := renewed(third)
	a, _ = as(third)
	if err := s.SignIns.SignOut(ctx, a); err != nil {
		t.Fatal(err)
	}
	for _, token := range []string{second, third, fourth} {
		if _, got := as(token); got != 401 {
			t.Errorf("after signing out it is answered %d", got)
		}
	}
	a, _ = as(in("console"))
	if _, err := s.SignIns.Renew(ctx, a); status(err) != 422 {
		t.Errorf("a console's is renewed: %v", err)
	}
}

func values(ctx context.Context, t *testing.T, st *store.Store, person string) int {
	t.Helper()
	all, err := st.Read().Tokens(ctx, person, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	return len(all)
}
