package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/mail"
	"regexp"
	"strings"
	"time"
	"unicode"

	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/password"
	"yardbench/internal/session"
	"yardbench/internal/store"
	"yardbench/internal/wire"
)

// Lifetimes of sign-ins, by door.
const (
	ConsoleLifetime = 12 * time.Hour
	CLILifetime     = 30 * 24 * time.Hour
)

var personName = regexp.MustCompile(`^[a-z][a-z0-9]{0,31}$`)

// AddPerson adds somebody with the hash of their password. No door leads here:
// people set up their own accounts, by a link. The demo calls it.
func (s *Service) AddPerson(ctx context.Context, p store.Person) error {
	if err := checkAccount(p); err != nil {
		return err
	}
	p.ID = store.NewID()
	err := s.Store.Write(ctx, func(tx *store.Tx) error { return addPerson(ctx, tx, p, "service") })
	return nameOfPersonTaken(err, p.Name)
}

// checkAccount checks what an account is set up with.
func checkAccount(p store.Person) error {
	switch {
	case !personName.MatchString(p.Name):
		return invalid(fmt.Sprintf("%q is no name to sign in with", p.Name), "use lower-case letters and digits, starting with a letter, at most 32")
	case strings.TrimSpace(p.FullName) == "" || hasControl(p.FullName):
		return invalid("the full name is missing, or holds a character that is no text", "give the name that stands on commits")
	}
	if a, err := mail.ParseAddress(p.Email); err != nil || a.Address != p.Email {
		return invalid(quote(p.Email)+" is no mail address", "give the address that stands on commits, like ingrid@skerryline.example")
	}
	return nil
}

func hasControl(s string) bool { return strings.ContainsFunc(s, unicode.IsControl) }

func addPerson(ctx context.Context, tx *store.Tx, p store.Person, actor string) error {
	if err := tx.AddPerson(ctx, p); err != nil {
		return err
	}
	return tx.Journal(ctx, "person.added", p.ID, p.ID, actor, map[string]any{"role": p.Role, "team": p.Team})
}

func nameOfPersonTaken(err error, name string) error {
	if store.IsDuplicate(err) {
		return conflict("name-taken", "there is a person "+quote(name)+" already", "choose another name")
	}
	return err
}

// People lists those the actor may see.
func (s *Service) People(ctx context.Context, a Actor) ([]wire.Person, error) {
	if !a.may(policy.SeePeople) {
		return nil, denied(a, "see who is here")
	}
	scope, _ := a.scope(policy.SeePeople)
	rows, err := s.Store.Read().People(ctx, scope.TeamID)
	out := []wire.Person{}
	for _, p := range rows {
		if scope.OwnerID == "" || p.ID == scope.OwnerID {
			out = append(out, personView(p))
		}
	}
	return out, err
}

// Teams lists the teams.
func (s *Service) Teams(ctx context.Context, a Actor) ([]wire.Team, error) {
	if !a.may(policy.SeePeople) {
		return nil, denied(a, "see the teams")
	}
	rows, err := s.Store.Read().Teams(ctx)
	out := []wire.Team{}
	for _, t := range rows {
		out = append(out, wire.Team{Name: t.Name})
	}
	return out, err
}

// AddTeam adds a team.
func (s *Service) AddTeam(ctx context.Context, a Actor, in wire.Team) (wire.Team, error) {
	in.Name = strings.TrimSpace(in.Name)
	switch {
	case !a.may(policy.ChangePeople):
		return in, denied(a, "add teams")
	case in.Name == "" || hasControl(in.Name) || len(in.Name) > 40:
		return in, invalid(quote(in.Name)+" is no name of a team", "use at most 40 letters")
	}
	t := store.Team{ID: store.NewID(), Name: in.Name}
	return in, s.Store.Write(ctx, func(tx *store.Tx) error {
		switch _, err := tx.TeamByName(ctx, in.Name); { // whatever the case it is written in
		case err == nil:
			return conflict("name-taken", "there is a team "+quote(in.Name)+" already", "")
		case !errors.Is(err, store.ErrNotFound):
			return err
		}
		if err := tx.AddTeam(ctx, t); err != nil {
			return err
		}
		return tx.Journal(ctx, "team.added", t.ID, "", a.ID, map[string]any{"name": t.Name})
	})
}

func (s *Service) team(ctx context.Context, name string) (store.Team, error) {
	if name == "" {
		return store.Team{}, nil
	}
	t, err := s.Store.Read().TeamByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return t, notFound("team", name, "see them with: yardbench people teams")
	}
	return t, err
}

// person finds somebody the actor may see; others do not exist for them.
func (s *Service) person(ctx context.Context, a Actor, name string, action policy.Action) (store.Person, error) {
	p, err := s.Store.Read().PersonByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) || (err == nil && !a.mayOf(policy.SeePeople, p)) {
		return p, notFound("person", name, "see who is here with: yardbench people")
	}
	if err == nil && !a.mayOf(action, p) {
		return p, denied(a, "change "+p.Name)
	}
	return p, err
}

// ChangePerson changes somebody's role or team, or closes or opens their account.
func (s *Service) ChangePerson(ctx context.Context, a Actor, name string, in wire.PersonChange) (wire.Person, error) {
	p, err := s.person(ctx, a, name, policy.ChangePeople)
	if err != nil {
		return wire.Person{}, err
	}
	if p.ID == a.ID && ((in.Role != "" && policy.Role(in.Role) != a.Role) || (in.Closed != nil && *in.Closed)) {
		return wire.Person{}, conflict("own-account", "you cannot take your own role or account away: somebody must be left to give it back", "have another operator do it")
	}
	var team *store.Team
	if in.Team != nil {
		t, err := s.team(ctx, *in.Team)
		if err != nil {
			return wire.Person{}, err
		}
		team = &t
	}
	err = s.Store.Write(ctx, func(tx *store.Tx) (err error) {
		if in.Role != "" {
			if err := tx.SetRole(ctx, p.ID, policy.Role(in.Role)); err != nil {
				return err
			}
		}
		if team != nil {
			if err := tx.SetTeam(ctx, p.ID, team.ID); err != nil {
				return err
			}
		}
		if in.Closed != nil {
			if err := tx.CloseAccount(ctx, p.ID, *in.Closed); err != nil {
				return err
			}
		}
		if p, err = tx.PersonByID(ctx, p.ID); err != nil {
			return err
		}
		return tx.Journal(ctx, "person.changed", p.ID, p.ID, a.ID, map[string]any{"role": p.Role, "team": p.Team, "closed": p.ClosedAt != nil})
	})
	return personView(p), err
}

// ErasePerson takes away everything that is known of somebody whose account is
// closed, and what was theirs. What they did stays in the journal, under an id
// that stands for nobody any more.
func (s *Service) ErasePerson(ctx context.Context, a Actor, name string) (wire.Person, error) {
	p, err := s.person(ctx, a, name, policy.ChangePeople)
	if err != nil {
		return wire.Person{}, err
	}
	if p.ID == a.ID || p.ClosedAt == nil {
		return wire.Person{}, conflict("account-open", quote(p.Name)+" has an open account, and may sign in", "close it first: yardbench people close "+p.Name)
	}
	gone := "gone" + p.ID[:6]
	err = s.Store.Write(ctx, func(tx *store.Tx) error {
		theirs, err := tx.PeoplesWorkspaces(ctx, store.Scope{OwnerID: p.ID})
		if err != nil {
			return err
		}
		if len(theirs) > 0 {
			var names []string
			for _, w := range theirs {
				names = append(names, w.Name+"."+p.Name)
			}
			return conflict("has-workspaces", quote(p.Name)+" still has workspaces: "+some(names), "remove them first")
		}
		if err := tx.ErasePerson(ctx, p.ID, gone); err != nil {
			return err
		}
		if err := tx.Journal(ctx, "person.erased", p.ID, p.ID, a.ID, map[string]any{}); err != nil {
			return err
		}
		p, err = tx.PersonByID(ctx, p.ID)
		return err
	})
	return personView(p), err
}

// Enrol makes a link by which somebody sets up their account, or a new
// password.
func (s *Service) Enrol(ctx context.Context, a Actor, in wire.NewEnrolment) (wire.Enrolment, error) {
	if !a.may(policy.ChangePeople) {
		return wire.Enrolment{}, denied(a, "make enrolment links")
	}
	e := store.Enrolment{Role: policy.Developer, MadeBy: a.ID}
	if in.Role != "" {
		e.Role = policy.Role(in.Role)
	}
	t, err := s.team(ctx, in.Team)
	if err != nil {
		return wire.Enrolment{}, err
	}
	e.TeamID, e.Team = t.ID, t.Name
	if in.Person != "" {
		p, err := s.person(ctx, a, in.Person, policy.ChangePeople)
		if err != nil {
			return wire.Enrolment{}, err
		}
		e.PersonID, e.Person, e.Role, e.TeamID, e.Team = p.ID, p.Name, p.Role, p.TeamID, p.Team
	}
	hours := 72
	if in.Hours > 0 {
		hours = in.Hours
	}
	return s.enrolment(ctx, e, time.Duration(hours)*time.Hour)
}

// FirstEnrolment makes the link for the first operator of a service that knows
// nobody yet.
func (s *Service) FirstEnrolment(ctx context.Context) (link string, needed bool, err error) {
	people, err := s.Store.Read().People(ctx, "")
	if err != nil || len(people) > 0 {
		return "", false, err
	}
	e, err := s.enrolment(ctx, store.Enrolment{Role: policy.Operator, MadeBy: "service"}, 72*time.Hour)
	return e.Link, true, err
}

func (s *Service) enrolment(ctx context.Context, e store.Enrolment, life time.Duration) (wire.Enrolment, error) {
	key, hash := newToken("yb_link_")
	e.ID, e.Hash, e.ExpiresAt = store.NewID(), hash, s.now().Add(life).UTC()
	// The key stands behind a #, which no browser sends to a server.
	out := wire.Enrolment{Link: s.Address + "/enrol#" + key, Role: string(e.Role), Team: e.Team, Person: e.Person, ExpiresAt: e.ExpiresAt}
	return out, s.Store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.AddEnrolment(ctx, e); err != nil {
			return err
		}
		return tx.Journal(ctx, "enrolment.made", e.ID, e.PersonID, e.MadeBy, map[string]any{"role": e.Role, "team": e.Team})
	})
}

func (s *Service) offered(ctx context.Context, key string) (store.Enrolment, error) {
	hash := sha256.Sum256([]byte(key))
	e, err := s.Store.Read().EnrolmentByHash(ctx, hash[:], s.now())
	if errors.Is(err, store.ErrNotFound) {
		return e, notFound("enrolment link", "", "it was used, has expired, or was cut off; ask an operator for another")
	}
	return e, err
}

// Offer tells what a link is for.
func (s *Service) Offer(ctx context.Context, key string) (wire.EnrolmentOffer, error) {
	e, err := s.offered(ctx, key)
	return wire.EnrolmentOffer{Role: string(e.Role), Team: e.Team, Person: e.Person, ExpiresAt: e.ExpiresAt}, err
}

// UseEnrolment sets up the account, or the new password. A link is used once.
func (s *Service) UseEnrolment(ctx context.Context, in wire.EnrolmentUse) (wire.Person, error) {
	e, err := s.offered(ctx, in.Key)
	if err != nil {
		return wire.Person{}, err
	}
	p := store.Person{ID: store.NewID(), Name: in.Name, FullName: strings.TrimSpace(in.FullName), Email: in.Email, Role: e.Role, TeamID: e.TeamID, Team: e.Team}
	if e.PersonID != "" {
		if p, err = s.Store.Read().PersonByID(ctx, e.PersonID); err != nil {
			return wire.Person{}, err
		}
	}
	if err := checkAccount(p); err != nil {
		return wire.Person{}, err
	}
	if p.PasswordHash, err = HashPassword(ctx, in.Password); err != nil {
		return wire.Person{}, err
	}
	err = s.Store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.UseEnrolment(ctx, e.ID); err != nil {
			return err
		}
		if e.PersonID == "" {
			return addPerson(ctx, tx, p, p.ID)
		}
		if err := tx.SetPassword(ctx, p.ID, p.PasswordHash); err != nil {
			return err
		}
		if err := tx.DropTokens(ctx, p.ID); err != nil { // whoever had the old password is out
			return err
		}
		return tx.Journal(ctx, "person.new-password", p.ID, p.ID, p.ID, map[string]any{})
	})
	if errors.Is(err, store.ErrNotFound) {
		return wire.Person{}, notFound("enrolment link", "", "it was used meanwhile; ask an operator for another")
	}
	return personView(p), nameOfPersonTaken(err, p.Name)
}

// HashPassword makes what is kept of a password.
func HashPassword(ctx context.Context, text string) (string, error) {
	hash, err := password.Hash(ctx, text)
	switch {
	case errors.Is(err, password.ErrShort):
		return "", invalid(err.Error(), "choose another")
	case errors.Is(err, password.ErrBusy):
		return "", tooMany(err.Error(), 10*time.Second)
	}
	return hash, err
}

// tooMany asks somebody to come again later.
func tooMany(what string, after time.Duration) error {
	p := problem(http.StatusTooManyRequests, "too-many-attempts", what, "try again in "+rules.Duration(after))
	p.RetryAfterS = int(after / time.Second)
	return p
}

// SignIn checks a password and gives a token for a door ("console" or "cli").
// from is the address that it is asked from.
func (s *Service) SignIn(ctx context.Context, in wire.SignIn, door, from string) (wire.SignedIn, error) {
	now := s.now()
	succeeded, ok := s.attempts.Begin(in.Name, from, now)
	if !ok {
		return wire.SignedIn{}, tooMany("too many sign-ins have failed for this name, or from this address", 5*time.Minute)
	}
	p, err := s.Store.Read().PersonByName(ctx, in.Name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return wire.SignedIn{}, err
	}
	// An unknown name takes the same time and gets the same answer.
	right, err := password.Check(ctx, p.PasswordHash, in.Password)
	if errors.Is(err, password.ErrBusy) {
		return wire.SignedIn{}, tooMany(err.Error(), 10*time.Second)
	}
	if err != nil {
		return wire.SignedIn{}, err
	}
	if !right || p.ID == "" || p.ClosedAt != nil {
		return wire.SignedIn{}, problem(http.StatusUnauthorized, "sign-in", "this name and password do not go together", "check both; an operator can set a new password")
	}
	succeeded()
	token, hash := newToken("yb_")
	life := CLILifetime
	if door == "console" {
		life = ConsoleLifetime
	}
	out := wire.SignedIn{Person: personView(p), Token: token, ExpiresAt: now.Add(life).UTC()}
	return out, s.Store.Write(ctx, func(tx *store.Tx) error {
		t := store.Token{ID: store.NewID(), PersonID: p.ID, Hash: hash, Door: door, ExpiresAt: out.ExpiresAt}
		if err := tx.AddToken(ctx, t); err != nil {
			return err
		}
		return tx.Journal(ctx, "person.signed-in", p.ID, p.ID, p.ID, map[string]any{"door": door})
	})
}

// Authenticate finds who holds a token.
func (s *Service) Authenticate(ctx context.Context, token string) (Actor, error) {
	denied := problem(http.StatusUnauthorized, "sign-in", "you are not signed in, or your sign-in has ended", "sign in with: yardbench sign-in")
	if token == "" {
		return Actor{}, denied
	}
	hash := sha256.Sum256([]byte(token))
	t, err := s.Store.Read().TokenByHash(ctx, hash[:], s.now())
	if errors.Is(err, store.ErrNotFound) {
		return Actor{}, denied
	}
	if err != nil {
		return Actor{}, err
	}
	p, err := s.Store.Read().PersonByID(ctx, t.PersonID)
	if err == nil && p.ClosedAt != nil {
		return Actor{}, denied
	}
	if err == nil {
		s.used(t)
	}
	return Actor{p, t.ID}, err
}

// usedEach is how exactly it is known when a sign-in was used last.
const usedEach = 10 * time.Minute

// used notes that a sign-in was used, in the background: whoever only looks
// needs no write, with a full disk neither.
func (s *Service) used(t store.Token) {
	now := s.now()
	if t.LastUsedAt != nil && now.Sub(*t.LastUsedAt) <= usedEach {
		return
	}
	s.usedAt.mu.Lock()
	defer s.usedAt.mu.Unlock()
	if now.Sub(s.usedAt.of[t.ID]) <= usedEach {
		return
	}
	if s.usedAt.of == nil || len(s.usedAt.of) > 10_000 {
		s.usedAt.of = map[string]time.Time{}
	}
	s.usedAt.of[t.ID] = now
	s.Keeper.Go(func(ctx context.Context) {
		if err := s.Store.Write(ctx, func(tx *store.Tx) error { return tx.UsedToken(ctx, t.ID) }); err != nil && ctx.Err() == nil {
			slog.Warn("when a sign-in was used last could not be noted", "error", err)
		}
	})
}

// Tokens lists what the actor is signed in with, and their tokens.
func (s *Service) Tokens(ctx context.Context, a Actor) ([]wire.Token, error) {
	rows, err := s.Store.Read().Tokens(ctx, a.ID, s.now())
	out := []wire.Token{}
	s.usedAt.mu.Lock()
	defer s.usedAt.mu.Unlock()
	for _, t := range rows {
		if at, ok := s.usedAt.of[t.ID]; ok && (t.LastUsedAt == nil || at.After(*t.LastUsedAt)) { // being noted
			at = at.UTC()
			t.LastUsedAt = &at
		}
		out = append(out, tokenView(t, a))
	}
	return out, err
}

func tokenView(t store.Token, a Actor) wire.Token {
	return wire.Token{ID: t.ID, Door: t.Door, Name: t.Name, CreatedAt: t.CreatedAt, ExpiresAt: t.ExpiresAt, LastUsedAt: t.LastUsedAt, Current: t.ID == a.TokenID}
}

// MakeToken makes a token with a name, for programs.
func (s *Service) MakeToken(ctx context.Context, a Actor, in wire.NewToken) (wire.MadeToken, error) {
	name := strings.TrimSpace(in.Name)
	if name == "" || hasControl(name) {
		return wire.MadeToken{}, invalid("the token's name is empty", "say what it is for")
	}
	days := 30
	if in.Days > 0 {
		days = in.Days
	}
	value, hash := newToken("yb_")
	t := store.Token{ID: store.NewID(), PersonID: a.ID, Hash: hash, Door: "token", Name: name, CreatedAt: s.now().UTC(), ExpiresAt: s.now().UTC().Add(time.Duration(days) * 24 * time.Hour)}
	return wire.MadeToken{Token: tokenView(t, a), Value: value}, s.Store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.AddToken(ctx, t); err != nil {
			return err
		}
		return tx.Journal(ctx, "token.made", t.ID, a.ID, a.ID, map[string]any{"name": name, "expires_at": t.ExpiresAt})
	})
}

// EndToken ends one of the actor's sign-ins or tokens.
func (s *Service) EndToken(ctx context.Context, a Actor, id string) error {
	err := s.Store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropToken(ctx, a.ID, id); err != nil {
			return err
		}
		return tx.Journal(ctx, "token.ended", id, a.ID, a.ID, map[string]any{})
	})
	if errors.Is(err, store.ErrNotFound) {
		return notFound("sign-in or token", id, "see yours with: yardbench token list")
	}
	return err
}

// SignOut ends the sign-in the actor came with.
func (s *Service) SignOut(ctx context.Context, a Actor) error {
	return s.Store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropToken(ctx, a.ID, a.TokenID); err != nil {
			return err
		}
		return tx.Journal(ctx, "person.signed-out", a.ID, a.ID, a.ID, map[string]any{})
	})
}

// Me tells who the actor is, and where.
func (s *Service) Me(ctx context.Context, a Actor) (wire.Me, error) {
	house, _, err := s.House.Rules(ctx, s.Store.Read())
	return wire.Me{Person: personView(a.Person), Organisation: house.Organisation}, err
}

func personView(p store.Person) wire.Person {
	return wire.Person{Name: p.Name, FullName: p.FullName, Email: p.Email, Role: string(p.Role), Team: p.Team, Closed: p.ClosedAt != nil}
}

var hostName = regexp.MustCompile(`^[A-Za-z0-9.-]{1,253}(:[0-9]{1,5})?$`)

// PutGitCredential sets what the actor signs in to a git host with.
func (s *Service) PutGitCredential(ctx context.Context, a Actor, host string, c wire.GitCredential) error {
	if !hostName.MatchString(host) {
		return invalid(quote(host)+" is no host", "give a host name, with :PORT where it is not the usual one")
	}
	if strings.ContainsAny(c.Username+c.Password, "\r\n\x00") || strings.Contains(c.Username, ":") {
		return invalid("the user name or password holds a character git cannot pass on", "")
	}
	sealed, err := s.Vault.Seal(c.Password, session.GitPlace(a.ID, host)...)
	if err != nil {
		return err
	}
	return s.Store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.PutGitCredential(ctx, store.Sealed{PersonID: a.ID, Name: host, Username: c.Username, Sealed: sealed}); err != nil {
			return err
		}
		return tx.Journal(ctx, "git-credential.put", a.ID, a.ID, a.ID, map[string]any{"host": host})
	})
}

// newToken makes a token of 256 random bits and the hash that is kept of it.
func newToken(prefix string) (token string, hash []byte) {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails, by its documentation
	token = prefix + base64.RawURLEncoding.EncodeToString(b)
	sum := sha256.Sum256([]byte(token))
	return token, sum[:]
}

// GitCredentials lists what the actor signs in to git hosts with.
func (s *Service) GitCredentials(ctx context.Context, a Actor) ([]wire.KnownCredential, error) {
	rows, err := s.Store.Read().GitCredentials(ctx, a.ID)
	out := []wire.KnownCredential{}
	for _, r := range rows {
		out = append(out, wire.KnownCredential{Host: r.Name, Username: r.Username, UpdatedAt: r.UpdatedAt})
	}
	return out, err
}

// DropGitCredential forgets what the actor signs in to a git host with.
func (s *Service) DropGitCredential(ctx context.Context, a Actor, host string) error {
	err := s.Store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropGitCredential(ctx, a.ID, host); err != nil {
			return err
		}
		return tx.Journal(ctx, "git-credential.removed", a.ID, a.ID, a.ID, map[string]any{"host": host})
	})
	if errors.Is(err, store.ErrNotFound) {
		return notFound("credential of yours for", host, "see yours with: yardbench credential list")
	}
	return err
}
