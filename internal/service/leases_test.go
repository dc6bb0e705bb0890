package service

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/store"
	"yardbench/wire"
)

// A lease ends with each ground that it stands on, at once, and with no ground
// of somebody else's.
func TestLeases(t *testing.T) {
	type scene struct {
		*inner
		op, mats, runa Actor
		w              store.Workspace
		port           int
	}
	write := func(do func(*scene, *store.Tx) error) func(*scene) error {
		return func(s *scene) error {
			return s.rooms.Store.Write(t.Context(), func(tx *store.Tx) error { return do(s, tx) })
		}
	}
	const self, workspace, own, shared = "an event stream", "a terminal", "a visit of one's own port", "a visit of a shared port"
	for name, c := range map[string]struct {
		do   func(*scene) error
		ends []string
	}{
		"signing out":           {func(s *scene) error { return s.SignIns.SignOut(t.Context(), s.mats) }, []string{self, workspace, own}},
		"ending the sign-in":    {func(s *scene) error { return s.SignIns.EndToken(t.Context(), s.mats, s.mats.TokenID) }, []string{self, workspace, own}},
		"another's signing out": {func(s *scene) error { return s.SignIns.SignOut(t.Context(), s.runa) }, []string{shared}},
		"closing the account":   {write(func(s *scene, tx *store.Tx) error { return tx.CloseAccount(t.Context(), s.mats.ID, true) }), []string{self, workspace, own}},
		"another role":          {write(func(s *scene, tx *store.Tx) error { return tx.SetRole(t.Context(), s.mats.ID, policy.Auditor) }), []string{self, workspace}},
		"being erased":          {write(func(s *scene, tx *store.Tx) error { return tx.ErasePerson(t.Context(), s.mats.ID, "gone") }), []string{self, workspace, own}},
		"a port not shared": {write(func(s *scene, tx *store.Tx) error {
			return tx.SharePort(t.Context(), s.w, s.port, store.Share{}, s.mats.ID)
		}), []string{shared}},
		"another port not shared": {write(func(s *scene, tx *store.Tx) error {
			return tx.SharePort(t.Context(), s.w, 9000, store.Share{}, s.mats.ID)
		}), nil},
		"removing the workspace": {write(func(s *scene, tx *store.Tx) error {
			s.w.Phase = lifecycle.Removing
			return tx.SaveWorkspace(t.Context(), s.w)
		}), []string{workspace}},
		"another's account closed": {write(func(s *scene, tx *store.Tx) error { return tx.CloseAccount(t.Context(), s.runa.ID, true) }), []string{shared}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			in, mats, _ := bare(t)
			s := &scene{inner: in, mats: mats, runa: addPersonTo(t, in, "runa", policy.Developer), port: 8000}
			s.w = addWorkspace(t, in, mats, "tide", lifecycle.Ready)
			if err := s.rooms.Store.Write(t.Context(), func(tx *store.Tx) error {
				return tx.SharePort(t.Context(), s.w, s.port, store.Share{All: true}, mats.ID)
			}); err != nil {
				t.Fatal(err)
			}
			for _, a := range []*Actor{&s.mats, &s.runa} {
				signed, err := s.SignIns.SignIn(t.Context(), wire.SignIn{Name: a.Name, Password: "long enough"}, "console", Caller{})
				if err != nil {
					t.Fatal(err)
				}
				if *a, err = s.SignIns.Authenticate(t.Context(), signed.Token); err != nil {
					t.Fatal(err)
				}
			}
			held := map[string]context.Context{}
			keep := func(what string, ctx context.Context, release context.CancelFunc) {
				t.Cleanup(release)
				held[what] = ctx
			}
			visit := func(a Actor) Visit {
				host := s.w.PortKey + "-8000.ports.localhost:7080"
				p, err := s.Ports.VisitPort(t.Context(), a, wire.PortVisit{Address: "http://" + host + "/"})
				if err != nil {
					t.Fatal(err)
				}
				_, rest, _ := strings.Cut(p.Go, "pass=")
				code, _, _ := strings.Cut(rest, "&")
				cookie, _, _, err := s.Ports.UsePass(code, host)
				if err != nil {
					t.Fatal(err)
				}
				v, err := s.Ports.EnterPort(t.Context(), host, cookie)
				if err != nil {
					t.Fatal(err)
				}
				return v
			}
			ctx, release := s.Leases.HoldSelf(t.Context(), s.mats)
			keep(self, ctx, release)
			ctx, release, err := s.Leases.HoldWorkspace(t.Context(), s.mats, "tide")
			if err != nil {
				t.Fatal(err)
			}
			keep(workspace, ctx, release)
			ctx, release = s.Leases.HoldVisit(t.Context(), visit(s.mats))
			keep(own, ctx, release)
			ctx, release = s.Leases.HoldVisit(t.Context(), visit(s.runa))
			keep(shared, ctx, release)
			for what, ctx := range held {
				if ctx.Err() != nil {
					t.Fatalf("%s has ended before: %v", what, context.Cause(ctx))
				}
			}
			if err := c.do(s); err != nil {
				t.Fatal(err)
			}
			for _, what := range c.ends {
				select {
				case <-held[what].Done():
					if cause := context.Cause(held[what]); !errors.Is(cause, ErrLeaseEnded) {
						t.Errorf("%s ended with %v", what, cause)
					}
				case <-time.After(10 * time.Second):
					t.Errorf("%s has not ended", what)
				}
				delete(held, what)
			}
			time.Sleep(100 * time.Millisecond)
			for what, ctx := range held {
				if ctx.Err() != nil {
					t.Errorf("%s ended: %v", what, context.Cause(ctx))
				}
			}
			late, release, err := s.Leases.HoldWorkspace(t.Context(), s.mats, "tide")
			if err != nil {
				return
			}
			defer release()
			if len(c.ends) > 1 && late.Err() == nil {
				t.Error("what ended before it was held is not seen")
			}
		})
	}
}

// A lease ends when the sign-in expires, with nobody's word.
func TestALeaseExpires(t *testing.T) {
	s, mats, _ := bare(t)
	hash := []byte("a hash")
	if err := s.rooms.Store.Write(t.Context(), func(tx *store.Tx) error {
		return tx.AddToken(t.Context(), store.Token{ID: "short", PersonID: mats.ID, Hash: hash, Door: "cli", ExpiresAt: time.Now().Add(300 * time.Millisecond)})
	}); err != nil {
		t.Fatal(err)
	}
	ctx, release := s.Leases.HoldSelf(t.Context(), Actor{Person: mats.Person, TokenID: "short"})
	defer release()
	if ctx.Err() != nil {
		t.Fatal(context.Cause(ctx))
	}
	select {
	case <-ctx.Done():
	case <-time.After(3 * time.Second):
		t.Error("it goes on after the sign-in")
	}
	release()
	if s.Leases.mu.Lock(); len(s.Leases.on) != 0 {
		t.Errorf("what was let go is still held: %v", s.Leases.on)
	}
	s.Leases.mu.Unlock()
}
