package service

import (
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/store"
	"yardbench/wire"
)

// A pass is used once, for its host, soon; what it gives ends with the sign-in
// and with what is allowed.
func TestPassesToPorts(t *testing.T) {
	s, ingrid, _ := bare(t)
	mats := addPersonTo(t, s, "mats", policy.Developer)
	ctx := t.Context()
	w := addWorkspace(t, s, ingrid, "tide", lifecycle.Stopped)
	host := w.PortKey + "-8000.ports.localhost:7080"
	enter := func(a Actor) (string, error) {
		p, err := s.Ports.VisitPort(ctx, a, wire.PortVisit{Address: "http://" + host + "/tides?day=1"})
		if err != nil {
			return "", err
		}
		_, rest, _ := strings.Cut(p.Go, "pass=")
		code, _, _ := strings.Cut(rest, "&")
		cookie, _, _, err := s.Ports.UsePass(code, host)
		if err != nil {
			return "", err
		}
		if _, _, _, err := s.Ports.UsePass(code, host); status(err) != 401 {
			t.Errorf("a pass used twice is answered %v", err)
		}
		return cookie, nil
	}
	for _, a := range []*Actor{&ingrid, &mats} {
		in, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: a.Name, Password: "long enough"}, "console", Caller{})
		if err != nil {
			t.Fatal(err)
		}
		if *a, err = s.SignIns.Authenticate(ctx, in.Token); err != nil {
			t.Fatal(err)
		}
	}
	_, private := enter(mats)
	_, none := s.Ports.VisitPort(ctx, mats, wire.PortVisit{Address: "http://" + strings.Replace(host, w.PortKey, "aaaaaaaaaa", 1) + "/"})
	if status(private) != 404 || strings.ReplaceAll(private.Error(), w.PortKey, "aaaaaaaaaa") != none.Error() {
		t.Errorf("a private port is told apart from none: %v, %v", private, none)
	}
	cookie, err := enter(ingrid)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := s.Ports.EnterPort(ctx, host, cookie); err != nil || got.Workspace.ID != w.ID || got.Port != 8000 {
		t.Errorf("with its pass the owner comes to %s:%d, %v", got.Workspace.Name, got.Port, err)
	}
	for what, c := range map[string][2]string{"another host": {strings.Replace(host, "8000", "9000", 1), cookie}, "no cookie": {host, ""}, "rubbish": {host, "%%%"}, "a cut cookie": {host, cookie[:len(cookie)-4]}} {
		if _, err := s.Ports.EnterPort(ctx, c[0], c[1]); err != ErrNoPass {
			t.Errorf("%s is answered %v", what, err)
		}
	}
	if _, err := s.Ports.SharePort(ctx, mats, "tide.ingrid", 8000, wire.PortChange{Shared: true}); status(err) != 404 {
		t.Errorf("somebody else shares a port: %v", err)
	}
	if _, err := s.Ports.SharePort(ctx, ingrid, "tide", 8000, wire.PortChange{Shared: true}); err != nil {
		t.Fatal(err)
	}
	shared, err := enter(mats)
	if err != nil {
		t.Fatalf("a shared port is answered %v", err)
	}
	// Of her team alone, and for a time.
	if _, err := s.Ports.SharePort(ctx, ingrid, "tide", 8000, wire.PortChange{Visitors: "team"}); status(err) != 422 {
		t.Errorf("shared with a team that there is not: %v", err)
	}
	if err := s.rooms.Store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.AddTeam(ctx, store.Team{ID: "harbour", Name: "Harbour"}); err != nil {
			return err
		}
		return tx.SetTeam(ctx, ingrid.ID, "harbour")
	}); err != nil {
		t.Fatal(err)
	}
	ingrid.TeamID = "harbour"
	if _, err := s.Ports.SharePort(ctx, ingrid, "tide", 8000, wire.PortChange{Visitors: "team", Seconds: 60}); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		who  Actor
		team string
		now  time.Time
		may  bool
	}{
		{ingrid, "", time.Now(), true}, {mats, "", time.Now(), false}, {mats, "harbour", time.Now(), true}, {mats, "harbour", time.Now().Add(time.Minute), false},
	} {
		who := c.who
		who.TeamID = c.team
		s.Ports.now = func() time.Time { return c.now }
		if _, err := s.Ports.mayVisit(ctx, who, w, 8000, "x"); (err == nil) != c.may {
			t.Errorf("%s of %q may: %v", who.Name, who.TeamID, err)
		}
	}
	s.Ports.now = time.Now
	if err := s.rooms.Store.Write(ctx, func(tx *store.Tx) error { return tx.SetTeam(ctx, ingrid.ID, "") }); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Ports.SharePort(ctx, ingrid, "tide", 8000, wire.PortChange{}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Ports.EnterPort(ctx, host, shared); status(err) != 404 {
		t.Errorf("after it is private again a visitor is answered %v", err)
	}
	if err := s.SignIns.SignOut(ctx, ingrid); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Ports.EnterPort(ctx, host, cookie); err != ErrNoPass {
		t.Errorf("after the sign-out the cookie is answered %v", err)
	}
	for _, bad := range []string{"http://127.0.0.1:7080/", "http://xx-8000.ports.localhost:7080", "http://" + w.PortKey + "-0.ports.localhost:7080", "::", ""} {
		if _, err := s.Ports.VisitPort(ctx, ingrid, wire.PortVisit{Address: bad}); status(err) != 404 && status(err) != 422 {
			t.Errorf("the address %q is answered %v", bad, err)
		}
	}
}
