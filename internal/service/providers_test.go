package service

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/identity"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Whom a provider knows: the same one again, whoever has the address it verified, or
// somebody new under a name of their own; in the role and team of their groups.
func TestArrivals(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	const signIn = "sign_in:\n  console: {longest: 8 h}\n  providers:\n    skerry-id:\n      groups:\n      - {group: crew, role: operator}\n      - {group: boards, role: developer, team: Boards}\n      - {group: audit, role: auditor}\n"
	if _, err := s.HouseRules.PutRules(ctx, astrid, wire.RulesText{Document: rules.First + signIn, Reason: "x"}); err != nil {
		t.Fatal(err)
	}
	p := store.Provider{ID: "p1", Name: "skerry-id", Title: "Skerry Line", Issuer: "https://id.skerryline.example", MadeBy: astrid.ID, Secret: []byte("x")}
	if err := s.rooms.Store.Write(ctx, func(tx *store.Tx) error { return tx.PutProvider(ctx, p) }); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name string
		who  identity.Who
		want string
	}{
		{"no place", identity.Who{Subject: "1", Name: "runa", Email: "runa@skerryline.example", Verified: true, Groups: []string{"others"}}, "401"},
		{"new", identity.Who{Subject: "2", Name: "Runa.Vik", FullName: "Runa Vik", Email: "runa@skerryline.example", Groups: []string{"boards"}}, "runa.vik developer Boards runa@skerryline.example"},
		{"again, in another role", identity.Who{Subject: "2", Name: "somebody else", Groups: []string{"audit"}}, "runa.vik auditor Boards runa@skerryline.example"},
		{"another of that name", identity.Who{Subject: "3", Name: "runa.vik", Groups: []string{"audit"}}, "runa.vik2 auditor  runa.vik2@people.invalid"},
		{"an address that is not verified is nobody's", identity.Who{Subject: "4", Name: "ingrid", Email: "ingrid@skerryline.example", Groups: []string{"boards"}}, "ingrid2 developer Boards ingrid@skerryline.example"},
		{"a name of no letters", identity.Who{Subject: "5", Name: "12 \x1b[31m", FullName: "\u202e Søren Ærø", Email: "søren", Groups: []string{"boards"}}, "m developer Boards m@people.invalid"},
		{"the last operator stays one", identity.Who{Subject: "6", Email: "ASTRID@skerryline.example", Verified: true, Groups: []string{"boards"}}, "astrid operator Boards astrid@skerryline.example"},
		{"an operator by the groups", identity.Who{Subject: "7", Name: "haldor", Groups: []string{"boards", "crew"}}, "haldor operator Boards haldor@people.invalid"},
		{"who is not the last one any more", identity.Who{Subject: "6", Groups: []string{"boards"}}, "astrid developer Boards astrid@skerryline.example"},
		{"an address of two is nobody's", identity.Who{Subject: "8", Name: "gull", Email: "ingrid@skerryline.example", Verified: true, Groups: []string{"audit"}}, "gull auditor  ingrid@skerryline.example"},
	} {
		in, err := s.Providers.arrived(ctx, p, c.who, Caller{Place: "192.0.2.7"})
		got := fmt.Sprint(in.Person.Name, " ", in.Person.Role, " ", in.Person.Team, " ", in.Person.Email)
		if err != nil {
			got = fmt.Sprint(status(err))
		}
		if got != c.want {
			t.Errorf("%s: %s, not %s (%v)", c.name, got, c.want, err)
		}
		if err == nil && time.Until(in.ExpiresAt) > 8*time.Hour {
			t.Errorf("%s: until %v", c.name, in.ExpiresAt)
		}
	}
	// Whoever loses their place loses what they came by.
	in, err := s.Providers.arrived(ctx, p, identity.Who{Subject: "2", Groups: []string{"audit"}}, Caller{})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Providers.arrived(ctx, p, identity.Who{Subject: "2"}, Caller{}); status(err) != 401 {
		t.Errorf("without a place: %v", err)
	}
	if _, err := s.SignIns.Authenticate(ctx, in.Token); status(err) != 401 {
		t.Errorf("what she came by before: %v", err)
	}
	if err := s.rooms.Store.Write(ctx, func(tx *store.Tx) error { return tx.CloseAccount(ctx, ingrid.ID, true) }); err != nil {
		t.Fatal(err)
	}
	if err := s.rooms.Store.Write(ctx, func(tx *store.Tx) error { return tx.PutIdentity(ctx, p.ID, "9", ingrid.ID) }); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Providers.arrived(ctx, p, identity.Who{Subject: "9", Groups: []string{"boards"}}, Caller{}); status(err) != 401 || !strings.Contains(err.Error(), "closed") {
		t.Errorf("a closed account: %v", err)
	}
}

// Sign-ins end by the house rules: when they were not used for too long, and without
// passwords for all but operators.
func TestEndsOfSignIns(t *testing.T) {
	s, _, astrid := bare(t)
	ctx := t.Context()
	put := func(text string) {
		t.Helper()
		if _, err := s.HouseRules.PutRules(ctx, astrid, wire.RulesText{Document: rules.First + text, Reason: "x"}); err != nil {
			t.Fatal(err)
		}
	}
	put("sign_in:\n  console: {idle: 1 h}\n  command_line: {longest: 2 days}\n")
	now := time.Now()
	s.SignIns.now = func() time.Time { return now }
	console, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "long enough"}, "console", Caller{})
	if err != nil {
		t.Fatal(err)
	}
	line, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "long enough"}, "cli", Caller{})
	if err != nil || line.ExpiresAt.Sub(now) > 48*time.Hour {
		t.Fatal(line.ExpiresAt, err)
	}
	for _, step := range []struct {
		after time.Duration
		want  int
	}{{50 * time.Minute, 0}, {50 * time.Minute, 0}, {61 * time.Minute, 401}} { // used, used, and then not
		now = now.Add(step.after)
		if _, err := s.SignIns.Authenticate(ctx, console.Token); status(err) != step.want {
			t.Errorf("after %v: %v", step.after, err)
		}
	}
	if _, err := s.SignIns.Authenticate(ctx, line.Token); err != nil {
		t.Errorf("the command line's has no such end: %v", err)
	}
	put("sign_in: {again_after: 10 min}\n")
	chief, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "astrid", Password: "long enough"}, "console", Caller{})
	if err != nil {
		t.Fatal(err)
	}
	a, err := s.SignIns.Authenticate(ctx, chief.Token)
	if err != nil {
		t.Fatal(err)
	}
	a.Since = now
	for _, step := range []struct {
		after  time.Duration
		action policy.Action
		token  bool
		want   int
	}{{0, policy.ChangeRules, false, 0}, {9 * time.Minute, policy.ChangePeople, false, 0}, {2 * time.Minute, policy.ChangePeople, false, 403}, {0, policy.ChangeRules, false, 403}, {0, policy.Launch, false, 0}, {0, policy.ChangeRules, true, 0}} {
		now = now.Add(step.after)
		a.Token = step.token
		if err := s.SignIns.Proved(ctx, a, step.action); status(err) != step.want {
			t.Errorf("%s, a token's %v: %v, not %d", step.action, step.token, err, step.want)
		}
	}
	put("sign_in:\n  passwords: no\n  providers: {skerry-id: {otherwise: developer}}\n")
	for name, want := range map[string]int{"ingrid": 403, "astrid": 0} {
		if _, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: name, Password: "long enough"}, "console", Caller{}); status(err) != want {
			t.Errorf("%s by a password: %v", name, err)
		}
	}
}

func TestWithin(t *testing.T) {
	for to, want := range map[string]string{"/mine": "/mine", "/bench/quay?board=file::a.py&at=1": "/bench/quay?board=file::a.py&at=1", "": "/", "//gull.example": "/", `/\gull.example`: "/", "https://gull.example": "/", "/api/v1/sign-out": "/", "/x/../api/v1/me": "/", "/a\nb": "/", "javascript:alert(1)": "/"} {
		if got := within(to); got != want {
			t.Errorf("%q leads to %q, not %q", to, got, want)
		}
	}
}
