package service

import (
	"errors"
	"net/url"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/store"
	"yardbench/wire"
)

// putRules puts other house rules in force.
func putRules(t *testing.T, s *inner, add string) {
	t.Helper()
	if err := s.rooms.Store.Write(t.Context(), func(tx *store.Tx) error {
		_, err := tx.AddRules(t.Context(), store.RulesVersion{Document: rules.First + add, AuthorID: "service"})
		return err
	}); err != nil {
		t.Fatal(err)
	}
}

// A look link lets in whoever holds it: to its one port, as often as it says, until it
// is over by any of what it stands on.
func TestLookLinks(t *testing.T) {
	s, ingrid, _ := bare(t)
	mats := addPersonTo(t, s, "mats", policy.Developer)
	ctx := t.Context()
	w := addWorkspace(t, s, ingrid, "tide", lifecycle.Stopped)
	host := w.PortKey + "-8000.ports.localhost:7080"
	if _, err := s.LookLinks.Make(ctx, ingrid, "tide", wire.NewLookLink{Port: 8000}); status(err) != 409 {
		t.Errorf("where the house rules say nothing, one is made: %v", err)
	}
	putRules(t, s, "\nports: {look_links_most: 2 h}\n")
	for _, c := range []struct {
		who  Actor
		ref  string
		in   wire.NewLookLink
		want int
	}{
		{mats, "tide.ingrid", wire.NewLookLink{Port: 8000}, 404},
		{ingrid, "tide", wire.NewLookLink{Port: 8000, Seconds: 7201}, 422},
		{ingrid, "tide", wire.NewLookLink{Port: 70000}, 422},
	} {
		if _, err := s.LookLinks.Make(ctx, c.who, c.ref, c.in); status(err) != c.want {
			t.Errorf("%s asks for %+v: %v", c.who.Name, c.in, err)
		}
	}
	make := func(in wire.NewLookLink) (wire.MadeLookLink, string) {
		t.Helper()
		in.Port = 8000
		l, err := s.LookLinks.Make(ctx, ingrid, "tide", in)
		if err != nil {
			t.Fatal(err)
		}
		u, err := url.Parse(l.Address)
		if err != nil || u.Host != host || u.Path != LookPath {
			t.Fatalf("its address is %s", l.Address)
		}
		return l, u.Query().Get("link")
	}
	open := func(value, host string) (string, error) {
		o, err := s.LookLinks.Find(ctx, value, host)
		if err != nil {
			return "", err
		}
		cookie, _, err := s.LookLinks.Open(ctx, o, host)
		return cookie, err
	}
	twice, value := make(wire.NewLookLink{VisitsMost: 2})
	if left := twice.Until.Sub(twice.MadeAt); left != 2*time.Hour {
		t.Errorf("where nothing is said it lasts %s", left)
	}
	for what, c := range map[string][2]string{"another port": {value, strings.Replace(host, "8000", "8001", 1)}, "another host": {value, "k-8000.ports.localhost:7080"}, "rubbish": {"yb_look_x", host}, "nothing": {"", host}, "its id": {twice.ID, host}} {
		if _, err := open(c[0], c[1]); !errors.Is(err, ErrLinkOver) {
			t.Errorf("%s: %v", what, err)
		}
	}
	first, err := open(value, host)
	if err != nil {
		t.Fatal(err)
	}
	second, err := open(value, host)
	if err != nil || first == second {
		t.Errorf("a second visit is the first, %v", err)
	}
	if _, err := open(value, host); !errors.Is(err, ErrLinkOver) {
		t.Errorf("opened more often than it says: %v", err)
	}
	v, err := s.Ports.EnterPort(ctx, host, first)
	if err != nil || v.Port != 8000 || v.Workspace.ID != w.ID || !v.Stranger || v.works() || v.Person != "" {
		t.Errorf("with its cookie they come to %+v, %v", v, err)
	}
	if _, err := s.Ports.EnterPort(ctx, strings.Replace(host, "8000", "8001", 1), first); !errors.Is(err, ErrNoPass) {
		t.Errorf("its cookie opens another port: %v", err)
	}
	if on, err := s.Ports.Knock(ctx, v, true); on || status(err) != 409 {
		t.Errorf("it wakes the workspace: %v, %v", on, err)
	}
	if links, err := s.LookLinks.LookLinks(ctx, ingrid, "tide"); err != nil || len(links) != 1 || links[0].Visits != 2 || links[0].VisitedAt == nil {
		t.Errorf("it is listed as %+v, %v", links, err)
	}

	// Each ground that it stands on ends it, and the connections of its visits.
	over := func(what string, end, back func()) {
		t.Helper()
		_, value := make(wire.NewLookLink{})
		cookie, err := open(value, host)
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		v, err := s.Ports.EnterPort(ctx, host, cookie)
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		held, release := s.Leases.HoldVisit(ctx, v)
		defer release()
		end()
		select {
		case <-held.Done():
		case <-time.After(5 * time.Second):
			t.Errorf("%s: its connections go on", what)
		}
		if _, err := s.Ports.EnterPort(ctx, host, cookie); err == nil {
			t.Errorf("%s: its cookie holds", what)
		}
		if _, err := open(value, host); !errors.Is(err, ErrLinkOver) {
			t.Errorf("%s: it is opened: %v", what, err)
		}
		back()
	}
	write := func(do func(tx *store.Tx) error) {
		t.Helper()
		if err := s.rooms.Store.Write(ctx, do); err != nil {
			t.Fatal(err)
		}
	}
	nothing := func() {}
	over("ended", func() {
		links, err := s.LookLinks.LookLinks(ctx, ingrid, "tide")
		if err != nil {
			t.Fatal(err)
		}
		last := links[len(links)-1].ID
		if err := s.LookLinks.End(ctx, mats, "tide.ingrid", last); status(err) != 404 {
			t.Errorf("somebody else ends it: %v", err)
		}
		if err := s.LookLinks.End(ctx, ingrid, "tide", last); err != nil {
			t.Fatal(err)
		}
	}, nothing)
	over("closed by the house rules", func() { putRules(t, s, "") }, func() { putRules(t, s, "\nports: {look_links_most: 2 h}\n") })
	over("its owner's account closed", func() { write(func(tx *store.Tx) error { return tx.CloseAccount(ctx, ingrid.ID, true) }) },
		func() { write(func(tx *store.Tx) error { return tx.CloseAccount(ctx, ingrid.ID, false) }) })
	for n := 0; ; n++ {
		if _, err := s.LookLinks.Make(ctx, ingrid, "tide", wire.NewLookLink{Port: 8000}); err != nil {
			if status(err) != 409 || n >= maxLookLinks {
				t.Errorf("after %d more it is %v", n, err)
			}
			break
		}
	}
	s.LookLinks.now = func() time.Time { return time.Now().Add(2*time.Hour + time.Second) }
	s.Ports.now = s.LookLinks.now
	if _, err := open(value, host); !errors.Is(err, ErrLinkOver) {
		t.Errorf("after its time it is opened: %v", err)
	}
	if _, err := s.Ports.EnterPort(ctx, host, second); err == nil {
		t.Error("after its time its cookie holds")
	}
}

// A link that wakes is a way to have a stopped workspace started, as its owner's visit
// is; the house rules have the last word.
func TestLookLinksThatWake(t *testing.T) {
	s, ingrid, _ := bare(t)
	ctx := t.Context()
	w := addWorkspace(t, s, ingrid, "tide", lifecycle.Stopped)
	host := w.PortKey + "-8000.ports.localhost:7080"
	putRules(t, s, "\nports: {look_links_most: 2 h}\n")
	l, err := s.LookLinks.Make(ctx, ingrid, "tide", wire.NewLookLink{Port: 8000, Wakes: true})
	if err != nil {
		t.Fatal(err)
	}
	_, value, _ := strings.Cut(l.Address, "link=")
	o, err := s.LookLinks.Find(ctx, value, host)
	if err != nil {
		t.Fatal(err)
	}
	cookie, _, err := s.LookLinks.Open(ctx, o, host)
	if err != nil {
		t.Fatal(err)
	}
	v, err := s.Ports.EnterPort(ctx, host, cookie)
	if err != nil || !v.works() {
		t.Fatalf("it is %+v, %v", v, err)
	}
	if _, err := s.Ports.Knock(ctx, v, false); status(err) != 409 {
		t.Errorf("a page that asks by itself wakes it: %v", err)
	}
	if _, err := s.Ports.Knock(ctx, v, true); err != nil {
		t.Errorf("by hand it does not wake: %v", err)
	}
	if now, err := s.rooms.Store.Read().WorkspaceByID(ctx, w.ID); err != nil || now.Wanted != lifecycle.WantReady {
		t.Errorf("it is wanted %s, %v", now.Wanted, err)
	}
}

// A public port is anybody's until its time, and by the house rules alone.
func TestPublicPorts(t *testing.T) {
	s, ingrid, _ := bare(t)
	ctx := t.Context()
	w := addWorkspace(t, s, ingrid, "tide", lifecycle.Stopped)
	host := w.PortKey + "-8000.ports.localhost:7080"
	share := func(in wire.PortChange) (wire.Port, error) { return s.Ports.SharePort(ctx, ingrid, "tide", 8000, in) }
	if _, err := share(wire.PortChange{Visitors: "public"}); status(err) != 409 {
		t.Errorf("where the house rules say nothing it is public: %v", err)
	}
	putRules(t, s, "\nports: {public_most: 2 h}\n")
	if _, err := share(wire.PortChange{Visitors: "public", Seconds: 7201}); status(err) != 422 {
		t.Errorf("it is public for longer: %v", err)
	}
	if p, err := share(wire.PortChange{Visitors: "public"}); err != nil || p.Visitors != "public" || p.Until == nil {
		t.Errorf("it is %+v, %v", p, err)
	}
	v, err := s.Ports.EnterPort(ctx, host, "")
	if err != nil || !v.Stranger || v.works() {
		t.Fatalf("a stranger comes to %+v, %v", v, err)
	}
	if _, err := s.Ports.EnterPort(ctx, strings.Replace(host, "8000", "8001", 1), ""); !errors.Is(err, ErrNoPass) {
		t.Errorf("another port of it is public: %v", err)
	}
	// So many strangers at once, and room again when they go.
	var ends []func()
	for range maxStrangers {
		end, err := s.Ports.Begin(v)
		if err != nil {
			t.Fatal(err)
		}
		ends = append(ends, end)
	}
	if _, err := s.Ports.Begin(v); status(err) != 429 {
		t.Errorf("one more is %v", err)
	}
	for _, end := range ends {
		end()
	}
	if len(s.Ports.strangers.at) != 0 {
		t.Errorf("they are remembered: %v", s.Ports.strangers.at)
	}
	putRules(t, s, "")
	if _, err := s.Ports.EnterPort(ctx, host, ""); !errors.Is(err, ErrNoPass) {
		t.Errorf("closed by the house rules it is open: %v", err)
	}
	putRules(t, s, "\nports: {public_most: 2 h}\n")
	s.Ports.now = func() time.Time { return time.Now().Add(2*time.Hour + time.Second) }
	s.LookLinks.now = s.Ports.now
	if _, err := s.Ports.EnterPort(ctx, host, ""); !errors.Is(err, ErrNoPass) {
		t.Errorf("after its time it is open: %v", err)
	}
}
