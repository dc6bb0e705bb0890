package service

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/quota"
	"yardbench/internal/core/rules"
	"yardbench/internal/core/secret"
	"yardbench/internal/store"
	"yardbench/internal/wire"
)

// A link is used once, until it ends, for what it was made for.
func TestEnrolment(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	if _, err := s.People.Enrol(ctx, ingrid, wire.NewEnrolment{Role: "operator"}); status(err) != 403 {
		t.Errorf("a developer makes an operator: %v", err)
	}
	if _, err := s.People.AddTeam(ctx, astrid, wire.Team{Name: "Harbour"}); err != nil {
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
	in, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "long enough"}, "cli", "")
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
	if _, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "another one"}, "cli", ""); err != nil {
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
	if _, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "long enough"}, "cli", ""); status(err) != 401 {
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

// Two hundred ask at the same time where there is room for seven: seven are
// admitted, and every refusal names the limit and what could be stopped.
func TestAdmissionUnderConcurrency(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	doc := strings.Replace(rules.First, "{existing: 8, running: 4}", "{running: 7, memory: 100 GiB}", 1)
	if _, err := s.HouseRules.PutRules(ctx, astrid, wire.RulesText{Document: doc, Reason: "for the test"}); err != nil {
		t.Fatal(err)
	}
	addWorkspace(t, s, ingrid, "before", lifecycle.Stopped)
	house, _, err := s.rooms.House.Rules(ctx, s.rooms.Store.Read())
	if err != nil {
		t.Fatal(err)
	}
	size := house.Sizes["small"]
	errs := make([]error, 200)
	var wg sync.WaitGroup
	for n := range errs {
		wg.Go(func() {
			errs[n] = s.rooms.Store.Write(ctx, func(tx *store.Tx) error {
				if err := s.Launches.admit(ctx, tx, ingrid.Person, quota.Launch(size)); err != nil {
					return err
				}
				w := store.Workspace{ID: store.NewID(), OwnerID: ingrid.ID, Name: fmt.Sprint("w", n), RepositoryID: "r1", Branch: "main", Phase: lifecycle.Waiting, Wanted: lifecycle.WantReady,
					Body: 1, Volume: 1, StewardToken: []byte{1}, Size: "small", CoresMilli: size.CoresMilli, MemoryBytes: size.MemoryBytes, PortKey: NewPortKey()}
				return s.Launches.Accept(ctx, tx, &w, lifecycle.LaunchSheet, ingrid.ID, "tide-board")
			})
		})
	}
	wg.Wait()
	admitted := 0
	for _, err := range errs {
		if err == nil {
			admitted++
			continue
		}
		if status(err) != 409 || !strings.Contains(err.Error(), "running, ingrid: 7 used + 1 asked of 7 allowed") || !strings.Contains(err.Error(), "stop one of yours that runs: w") {
			t.Fatalf("a refusal reads %v", err)
		}
	}
	used, err := s.rooms.Store.Read().Reserved(ctx, store.Scope{OwnerID: ingrid.ID})
	if admitted != 7 || err != nil || used[rules.Running] != 7 || used[rules.Existing] != 8 {
		t.Errorf("%d were admitted, %v are reserved, %v", admitted, used, err)
	}
	if _, err := s.Workspaces.Start(ctx, ingrid, "before"); status(err) != 409 || !strings.Contains(err.Error(), "7 allowed") {
		t.Errorf("one that was stopped starts beyond the limit: %v", err)
	}
}

// A document with mistakes changes nothing; a good one is in force at once,
// with its reason, and not over a newer one.
func TestHouseRules(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	good := strings.Replace(rules.First, "rest_after: 1 h ", "rest_after: 30 min ", 1)
	for _, c := range []struct {
		what   string
		who    Actor
		in     wire.RulesText
		status int
		says   string
	}{
		{"a developer", ingrid, wire.RulesText{Document: good, Reason: "why"}, 403, ""},
		{"no reason", astrid, wire.RulesText{Document: good}, 422, "reason"},
		{"a unit slip", astrid, wire.RulesText{Document: strings.Replace(good, "2 GiB", "2 GB", 1), Reason: "why"}, 422, "line 8, column 30"},
		{"nothing new", astrid, wire.RulesText{Document: rules.First, Reason: "why"}, 409, "changes nothing"},
		{"from an old version", astrid, wire.RulesText{Document: good, Reason: "why", Base: 9}, 409, "put meanwhile"},
	} {
		if _, err := s.HouseRules.PutRules(ctx, c.who, c.in); status(err) != c.status || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s is answered %v", c.what, err)
		}
	}
	v, err := s.HouseRules.PutRules(ctx, astrid, wire.RulesText{Document: good, Reason: "shorter evenings", Base: 1})
	if err != nil || v.Version != 2 || !slices.Equal(v.Changes, []string{"idle.rest_after: 1 h → 30 min"}) {
		t.Fatalf("put %+v, %v", v, err)
	}
	if house, version, err := s.rooms.House.Rules(ctx, s.rooms.Store.Read()); err != nil || version != 2 || house.Idle.RestAfter != 30*time.Minute {
		t.Errorf("in force is version %d: %+v, %v", version, house.Idle, err)
	}
	if all, err := s.HouseRules.Rules(ctx, ingrid); err != nil || len(all) != 2 || all[0].Author != "astrid" || all[0].Reason != "shorter evenings" {
		t.Errorf("the versions are %+v, %v", all, err)
	}
}

// Whom a new secret is given to is said; later it stays as it was.
func TestSecretsReach(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	addWorkspace(t, s, ingrid, "tide", lifecycle.Stopped) // it registers tide-board
	for _, c := range []struct {
		what, name string
		in         wire.SecretValue
		status     int
	}{
		{"no variable name", "1-KEY", wire.SecretValue{Value: "x", Everywhere: true}, 422}, {"nobody named", "KEY", wire.SecretValue{Value: "x"}, 422},
		{"both", "KEY", wire.SecretValue{Value: "x", Everywhere: true, Repositories: []string{"tide-board"}}, 422}, {"unknown repository", "KEY", wire.SecretValue{Value: "x", Repositories: []string{"ghost"}}, 404},
		{"empty", "KEY", wire.SecretValue{Everywhere: true}, 422},
	} {
		if _, err := s.Secrets.PutSecret(ctx, ingrid, c.name, c.in); status(err) != c.status {
			t.Errorf("%s is answered %v", c.what, err)
		}
	}
	if _, err := s.Secrets.PutSecret(ctx, ingrid, "KEY", wire.SecretValue{Value: "one", Form: "file", Repositories: []string{"tide-board"}}); err != nil {
		t.Fatal(err)
	}
	if v, err := s.Secrets.PutSecret(ctx, ingrid, "KEY", wire.SecretValue{Value: "two"}); err != nil || v.Version != 2 || v.Form != "file" || !slices.Equal(v.Repositories, []string{"tide-board"}) {
		t.Errorf("a new value makes it %+v, %v", v, err)
	}
	if _, err := s.Secrets.PutRepositorySecret(ctx, ingrid, "tide-board", "KEY", wire.SecretValue{Value: "x"}); status(err) != 403 {
		t.Errorf("a developer sets a repository's secret: %v", err)
	}
	if _, err := s.Secrets.PutRepositorySecret(ctx, astrid, "tide-board", "KEY", wire.SecretValue{Value: "x", Everywhere: true}); status(err) != 422 {
		t.Errorf("a repository's secret goes everywhere: %v", err)
	}
}

// The news of a push counts only with its repository's mark, fresh and whole.
func TestPushes(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	addWorkspace(t, s, ingrid, "tide", lifecycle.Stopped)
	if _, err := s.Pushes.NewPushKey(ctx, ingrid, "tide-board", ""); status(err) != 403 {
		t.Errorf("a developer makes a push key: %v", err)
	}
	k, err := s.Pushes.NewPushKey(ctx, astrid, "tide-board", "")
	if err != nil {
		t.Fatal(err)
	}
	in := wire.Push{Repository: "http://git.skerryline.example/x", Branch: "main", Commit: "0123456789"}
	body := []byte(`{"any":"bytes"}`)
	now := time.Now().UTC().Format(time.RFC3339)
	good := PushMark(k.Key, now, body)
	if out, err := s.Pushes.Pushed(ctx, in, body, now, good); err != nil || out.Runs != 0 {
		t.Errorf("a good mark without a plan is answered %+v, %v", out, err)
	}
	other := in
	other.Repository = "http://git.skerryline.example/other"
	old := time.Now().Add(-6 * time.Minute).UTC().Format(time.RFC3339)
	for what, err := range map[string]error{
		"another body":       second(s.Pushes.Pushed(ctx, in, []byte(`{}`), now, good)),
		"another repository": second(s.Pushes.Pushed(ctx, other, body, now, good)),
		"another time":       second(s.Pushes.Pushed(ctx, in, body, time.Now().Add(time.Minute).UTC().Format(time.RFC3339), good)),
		"an old one":         second(s.Pushes.Pushed(ctx, in, body, old, PushMark(k.Key, old, body))),
		"another key":        second(s.Pushes.Pushed(ctx, in, body, now, PushMark("guess", now, body))),
		"no mark":            second(s.Pushes.Pushed(ctx, in, body, now, "")),
		"no time":            second(s.Pushes.Pushed(ctx, in, body, "", PushMark(k.Key, "", body))),
	} {
		if status(err) != http.StatusUnauthorized {
			t.Errorf("%s is answered %v", what, err)
		}
	}
	if _, err := s.Pushes.NewPushKey(ctx, astrid, "tide-board", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Pushes.Pushed(ctx, in, body, now, good); status(err) != http.StatusUnauthorized {
		t.Errorf("the key that was replaced is answered %v", err)
	}
}

func second[T any](_ T, err error) error { return err }

// A pass is used once, for its host, soon; what it gives ends with the sign-in
// and with what is allowed.
func TestPassesToPorts(t *testing.T) {
	s, ingrid, _ := bare(t)
	mats := addPersonTo(t, s, "mats", policy.Developer)
	ctx := t.Context()
	w := addWorkspace(t, s, ingrid, "tide", lifecycle.Stopped)
	host := w.PortKey + "-8000.ports.localhost:7080"
	enter := func(a Actor) (string, error) {
		p, err := s.Ports.VisitPort(ctx, a, "http://"+host+"/tides?day=1")
		if err != nil {
			return "", err
		}
		_, rest, _ := strings.Cut(p.Go, "pass=")
		code, _, _ := strings.Cut(rest, "&")
		cookie, _, err := s.Ports.UsePass(code, host)
		if err != nil {
			return "", err
		}
		if _, _, err := s.Ports.UsePass(code, host); status(err) != 401 {
			t.Errorf("a pass used twice is answered %v", err)
		}
		return cookie, nil
	}
	for _, a := range []*Actor{&ingrid, &mats} {
		in, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: a.Name, Password: "long enough"}, "console", "")
		if err != nil {
			t.Fatal(err)
		}
		if *a, err = s.SignIns.Authenticate(ctx, in.Token); err != nil {
			t.Fatal(err)
		}
	}
	_, private := enter(mats)
	_, none := s.Ports.VisitPort(ctx, mats, "http://"+strings.Replace(host, w.PortKey, "aaaaaaaaaa", 1)+"/")
	if status(private) != 404 || strings.ReplaceAll(private.Error(), w.PortKey, "aaaaaaaaaa") != none.Error() {
		t.Errorf("a private port is told apart from none: %v, %v", private, none)
	}
	cookie, err := enter(ingrid)
	if err != nil {
		t.Fatal(err)
	}
	if got, port, err := s.Ports.EnterPort(ctx, host, cookie); err != nil || got.ID != w.ID || port != 8000 {
		t.Errorf("with its pass the owner comes to %s:%d, %v", got.Name, port, err)
	}
	for what, c := range map[string][2]string{"another host": {strings.Replace(host, "8000", "9000", 1), cookie}, "no cookie": {host, ""}, "rubbish": {host, "%%%"}, "a cut cookie": {host, cookie[:len(cookie)-4]}} {
		if _, _, err := s.Ports.EnterPort(ctx, c[0], c[1]); err != ErrNoPass {
			t.Errorf("%s is answered %v", what, err)
		}
	}
	if _, err := s.Ports.SharePort(ctx, mats, "tide.ingrid", 8000, true); status(err) != 404 {
		t.Errorf("somebody else shares a port: %v", err)
	}
	if _, err := s.Ports.SharePort(ctx, ingrid, "tide", 8000, true); err != nil {
		t.Fatal(err)
	}
	shared, err := enter(mats)
	if err != nil {
		t.Fatalf("a shared port is answered %v", err)
	}
	if _, err := s.Ports.SharePort(ctx, ingrid, "tide", 8000, false); err != nil {
		t.Fatal(err)
	}
	if _, _, err := s.Ports.EnterPort(ctx, host, shared); status(err) != 404 {
		t.Errorf("after it is private again a visitor is answered %v", err)
	}
	if err := s.SignIns.SignOut(ctx, ingrid); err != nil {
		t.Fatal(err)
	}
	if _, _, err := s.Ports.EnterPort(ctx, host, cookie); err != ErrNoPass {
		t.Errorf("after the sign-out the cookie is answered %v", err)
	}
	for _, bad := range []string{"http://127.0.0.1:7080/", "http://xx-8000.ports.localhost:7080", "http://" + w.PortKey + "-0.ports.localhost:7080", "::", ""} {
		if _, err := s.Ports.VisitPort(ctx, ingrid, bad); status(err) != 404 && status(err) != 422 {
			t.Errorf("the address %q is answered %v", bad, err)
		}
	}
}

// Somebody who has left is erased: nothing in the records tells who they were,
// and the journal with what they did is whole.
func TestErased(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	if _, err := s.Secrets.PutSecret(ctx, ingrid, "MAST_KEY", wire.SecretValue{Value: "hush-hush", Everywhere: true}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "long enough"}, "cli", ""); err != nil {
		t.Fatal(err)
	}
	w := addWorkspace(t, s, ingrid, "quay", lifecycle.Stopped)
	if _, err := s.People.ErasePerson(ctx, astrid, "ingrid"); status(err) != 409 || !strings.Contains(err.Error(), "open account") {
		t.Errorf("with an open account: %v", err)
	}
	yes := true
	if _, err := s.People.ChangePerson(ctx, astrid, "ingrid", wire.PersonChange{Closed: &yes}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.People.ErasePerson(ctx, astrid, "ingrid"); status(err) != 409 || !strings.Contains(err.Error(), "quay.ingrid") {
		t.Errorf("with a workspace: %v", err)
	}
	if err := s.rooms.Store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(tx.SetPhase(ctx, &w, lifecycle.Removing, astrid.ID, ""), tx.SetPhase(ctx, &w, lifecycle.Removed, "service", ""))
	}); err != nil {
		t.Fatal(err)
	}
	p, err := s.People.ErasePerson(ctx, astrid, "ingrid")
	if err != nil || !p.Closed || p.Email != "" || !strings.HasPrefix(p.Name, "gone") {
		t.Fatalf("erased, she is %+v, %v", p, err)
	}
	if _, err := s.People.ErasePerson(ctx, astrid, "ingrid"); status(err) != 404 {
		t.Errorf("erased again: %v", err)
	}
	if _, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: p.Name, Password: "long enough"}, "cli", ""); status(err) != 401 {
		t.Errorf("she signs in: %v", err)
	}
	q := s.rooms.Store.Read()
	if left, err := q.Secrets(ctx, secret.OfPerson, ingrid.ID); err != nil || len(left) > 0 {
		t.Errorf("of her secrets there are left %v, %v", left, err)
	}
	if err := q.VerifyJournal(ctx); err != nil {
		t.Error(err)
	}
	entries, err := q.Journal(ctx, store.JournalFilter{Person: ingrid.ID, Limit: 100})
	if err != nil || len(entries) < 5 {
		t.Fatalf("the journal has %d entries of her, %v", len(entries), err)
	}
	for _, e := range entries {
		if text := string(e.Data) + e.Subject + e.Actor; strings.Contains(text, "ingrid") {
			t.Errorf("entry %d, %s, tells who she was: %s", e.Number, e.Kind, text)
		}
	}
	if _, err := s.People.ErasePerson(ctx, astrid, "astrid"); status(err) != 409 {
		t.Errorf("an operator erases herself: %v", err)
	}
}
