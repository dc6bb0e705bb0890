package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/password"
	"yardbench/internal/reconcile"
	"yardbench/internal/store"
	"yardbench/wire"
)

// SignIns are the use cases of signing in, and of tokens.
type SignIns struct {
	house        *house.Book
	keeper       *reconcile.Keeper
	store        *store.Store
	now          func() time.Time
	repositories *Repositories
	attempts     password.Attempts
	refused      atomic.Int64
	refusals     refusals
	guests       *Guests
	secrets      *Secrets
	usedAt       struct { // sign-ins, as noted or being noted
		mu sync.Mutex
		of map[string]time.Time
	}
}

// SignIn checks a password and gives a token for a door ("console" or "cli").
func (s *SignIns) SignIn(ctx context.Context, in wire.SignIn, door string, from Caller) (out wire.SignedIn, err error) {
	var p store.Person
	defer func() {
		if f := (*fault.Fault)(nil); errors.As(err, &f) {
			s.refused.Add(1)
			s.noteRefusal(p.Name, from.Place, f.Class == fault.TooMany)
		}
	}()
	p, err = s.store.Read().PersonByName(ctx, in.Name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return wire.SignedIn{}, err
	}
	// An unknown name takes the same time and gets the same answer.
	right, err := s.knows(ctx, in.Name, p, in.Password, from.Place)
	if err != nil {
		return wire.SignedIn{}, err
	}
	if !right {
		return wire.SignedIn{}, stranger("sign-in", "this name and password do not go together", "check both; an operator can set a new password")
	}
	return s.signedIn(ctx, p, door, from, func(*store.Tx) error { return nil })
}

// signedIn signs somebody in who has shown who they are by an account of the house.
func (s *SignIns) signedIn(ctx context.Context, p store.Person, door string, from Caller, also func(*store.Tx) error) (wire.SignedIn, error) {
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return wire.SignedIn{}, err
	}
	// A provider that is away locks nobody out for good: operators have their own way in.
	if house.SignIn.NoPasswords && p.Role != policy.Operator {
		return wire.SignedIn{}, forbidden("the house rules have people sign in by an identity provider, and not by a password", "sign in by it, in the console")
	}
	token, hash := newToken("yb_")
	out := wire.SignedIn{Person: personView(p), Token: token, ExpiresAt: s.now().Add(endsOf(house.SignIn, door).Longest).UTC()}
	return out, s.store.Write(ctx, func(tx *store.Tx) error {
		t := store.Token{ID: store.NewID(), PersonID: p.ID, Hash: hash, Door: door, ExpiresAt: out.ExpiresAt, Place: from.Place, Client: from.client()}
		if err := tx.AddToken(ctx, t); err != nil {
			return err
		}
		if err := also(tx); err != nil {
			return err
		}
		return tx.Journal(ctx, p.ID, p.ID, p.ID, journal.SignedIn{Door: door, Place: from.Place})
	})
}

// knows tells whether somebody knows the password of a person, who may be nobody.
// How often it may be wrong is counted by name and by the address from which it
// is asked.
func (s *SignIns) knows(ctx context.Context, name string, p store.Person, text, from string) (bool, error) {
	succeeded, untried, ok := s.attempts.Begin(name, from, s.now())
	if !ok {
		return false, tooMany("too many sign-ins have failed for this name, or from this address", 5*time.Minute)
	}
	right, err := password.Check(ctx, p.PasswordHash, text)
	if errors.Is(err, password.ErrBusy) {
		untried()
		return false, tooMany(err.Error(), 10*time.Second)
	}
	if err != nil || !right || p.ID == "" || p.Left(s.now()) {
		return false, err
	}
	succeeded()
	return true, nil
}

// ChangePassword sets another password for the actor, who knows the old one, and
// ends all other sign-ins of theirs, tokens of programs too. from is the address
// that it is asked from.
func (s *SignIns) ChangePassword(ctx context.Context, a Actor, in wire.PasswordChange, from string) error {
	right, err := s.knows(ctx, a.Name, a.Person, in.Old, from)
	if err != nil {
		return err
	}
	if !right {
		return invalidAs("password", "the old password is another", "give the one that you sign in with; an operator can make you a link for a new one")
	}
	if err := password.Weak(in.New, append(strings.Fields(a.FullName), a.Name)...); err != nil {
		return invalid(err.Error(), "choose another")
	}
	hash, err := HashPassword(ctx, in.New)
	if err != nil {
		return err
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.SetPassword(ctx, a.ID, hash); err != nil {
			return err
		}
		if err := tx.DropTokensBut(ctx, a.ID, a.TokenID); err != nil {
			return err
		}
		return tx.Journal(ctx, a.ID, a.ID, a.ID, journal.PasswordSet{})
	})
}

// Authenticate finds who holds a token.
func (s *SignIns) Authenticate(ctx context.Context, token string) (Actor, error) {
	denied := stranger("sign-in", "you are not signed in, or your sign-in has ended", "sign in", fault.Do("sign-in", ""))
	if token == "" {
		return Actor{}, denied
	}
	hash := sha256.Sum256([]byte(token))
	t, err := s.store.Read().TokenByHash(ctx, hash[:], s.now())
	if errors.Is(err, store.ErrNotFound) || err == nil && t.Door == keyDoor { // whose hash is of what anybody may see
		return Actor{}, denied
	}
	if err != nil {
		return Actor{}, err
	}
	a, err := s.actorOf(ctx, t)
	if errors.Is(err, store.ErrNotFound) {
		return Actor{}, denied
	}
	if err == nil {
		s.used(t)
	}
	if err == nil && t.Next {
		err := s.store.Write(ctx, func(tx *store.Tx) error { return tx.TakeRenewed(ctx, t, hash[:], earlierGood) })
		if err != nil && !errors.Is(err, store.ErrNotFound) { // it is as good the next time
			slog.Warn("have a sign-in have its newer value", "person", a.Name, "error", err)
		}
	}
	return a, err
}

// earlierGood is how long the earlier value of a sign-in is good once the newer one was
// used: for what was begun with it.
const earlierGood = 5 * time.Minute

// Renew gives the command line's sign-in another value, so that a copy of the old one is
// worth nothing; the old one is good until the newer is used, and shortly after. It
// ends when it would have.
func (s *SignIns) Renew(ctx context.Context, a Actor) (wire.SignedIn, error) {
	if a.Earlier {
		return wire.SignedIn{}, conflict("renewed", "this sign-in was renewed, and you come by its earlier value", "use the newer one")
	}
	value, hash := newToken("yb_")
	var t store.Token
	err := s.store.Write(ctx, func(tx *store.Tx) (err error) {
		if t, err = tx.TokenByID(ctx, a.TokenID, tx.Now()); err != nil {
			return err
		}
		if t.Door != "cli" {
			return invalid("only sign-ins of the command line are renewed", "make another token, or sign in again")
		}
		return tx.RenewToken(ctx, t, hash)
	})
	return wire.SignedIn{Person: personView(a.Person), Token: value, ExpiresAt: t.ExpiresAt}, err
}

// endsOf is when a sign-in at a door ends.
func endsOf(s rules.SignIn, door string) rules.Ends {
	if door == "console" {
		return s.Console
	}
	return s.CommandLine
}

// idle tells whether a sign-in was not used for longer than the house rules have it.
// What is made for programs, and keys, are not idle: they have their own end.
func (s *SignIns) idle(ctx context.Context, t store.Token) (bool, error) {
	if t.Door != "console" && t.Door != "cli" {
		return false, nil
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	most := endsOf(house.SignIn, t.Door).Idle
	if err != nil || most == 0 {
		return false, err
	}
	at := t.CreatedAt
	s.usedAt.mu.Lock()
	if noted, ok := s.usedAt.of[t.ID]; ok && noted.After(at) {
		at = noted
	}
	s.usedAt.mu.Unlock()
	if t.LastUsedAt != nil && t.LastUsedAt.After(at) {
		at = *t.LastUsedAt
	}
	return s.now().Sub(at) > most, nil
}

// actorOf is who holds a sign-in; ErrNotFound where their account is closed, or it was
// not used for too long.
func (s *SignIns) actorOf(ctx context.Context, t store.Token) (Actor, error) {
	if over, err := s.idle(ctx, t); err != nil || over {
		return Actor{}, cmp.Or(err, store.ErrNotFound)
	}
	p, err := s.store.Read().PersonByID(ctx, t.PersonID)
	if err == nil && p.Left(s.now()) {
		err = store.ErrNotFound
	}
	return Actor{Person: p, TokenID: t.ID, Token: t.Door == "token", Earlier: t.Earlier, Since: t.CreatedAt, Grant: t.Grant}, err
}

// Proved tells whether the actor has signed in lately enough to do an action; what says
// no has them sign in again. Programs prove themselves by their tokens alone.
func (s *SignIns) Proved(ctx context.Context, a Actor, action policy.Action) error {
	if a.Token || !slices.Contains(policy.Grave, action) {
		return nil
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil || house.SignIn.AgainAfter == 0 || s.now().Sub(a.Since) <= house.SignIn.AgainAfter {
		return err
	}
	return &fault.Fault{Class: fault.Denied, Kind: "sign-in-again", Detail: "you signed in longer ago than " + rules.Duration(house.SignIn.AgainAfter) + ", and the house rules want to know that it is you", Next: "sign in again", Actions: []fault.Action{fault.Do("sign-in", "")}}
}

// used notes that a sign-in was used, in the background: whoever only looks
// needs no write, with a full disk neither.
func (s *SignIns) used(t store.Token) {
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
	s.keeper.Go(func(ctx context.Context) {
		if err := s.store.Write(ctx, func(tx *store.Tx) error { return tx.UsedToken(ctx, t.ID) }); err != nil && ctx.Err() == nil {
			slog.Warn("when a sign-in was used last could not be noted", "error", err)
		}
	})
}

// Tokens lists what the actor is signed in with, and their tokens.
func (s *SignIns) Tokens(ctx context.Context, a Actor) ([]wire.Token, error) {
	return s.tokens(ctx, a, a.ID)
}

func (s *SignIns) tokens(ctx context.Context, a Actor, person string) ([]wire.Token, error) {
	rows, err := s.store.Read().Tokens(ctx, person, s.now())
	out := []wire.Token{}
	s.usedAt.mu.Lock()
	defer s.usedAt.mu.Unlock()
	for _, t := range rows {
		if at, ok := s.usedAt.of[t.ID]; ok && (t.LastUsedAt == nil || at.After(*t.LastUsedAt)) { // being noted
			at = at.UTC()
			t.LastUsedAt = &at
		}
		v, err := s.tokenView(ctx, t, a)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, err
}

// MakeToken makes a token with a name, for programs.
func (s *SignIns) MakeToken(ctx context.Context, a Actor, in wire.NewToken) (wire.MadeToken, error) {
	return s.makeToken(ctx, a, a.Person, in)
}

// makeToken makes a token for somebody, which reaches no further than what whoever
// makes it came with.
func (s *SignIns) makeToken(ctx context.Context, a Actor, of store.Person, in wire.NewToken) (wire.MadeToken, error) {
	if name := strings.TrimSpace(in.Name); name == "" || hasControl(name) {
		return wire.MadeToken{}, invalid("the token's name is empty", "say what it is for")
	}
	days := 30
	if in.Days > 0 {
		days = in.Days
	}
	var grant policy.Grant
	for _, word := range in.Scopes {
		scope := policy.Scope(word)
		if !slices.Contains(policy.Scopes, scope) {
			return wire.MadeToken{}, invalid("there is no scope "+quote(word), "it is one of read, work, launch, administer")
		}
		if !slices.Contains(grant.Scopes, scope) {
			grant.Scopes = append(grant.Scopes, scope)
		}
	}
	for _, name := range in.Repositories {
		r, err := s.repositories.repository(ctx, a, name)
		if err != nil {
			return wire.MadeToken{}, err
		}
		grant.Repositories = append(grant.Repositories, r.ID)
	}
	if !a.Grant.Covers(grant) {
		return wire.MadeToken{}, a.beyond()
	}
	value, hash := newToken(tokenPrefix)
	t := store.Token{ID: store.NewID(), PersonID: of.ID, Hash: hash, Door: "token", Name: strings.TrimSpace(in.Name), Grant: grant, CreatedAt: s.now().UTC(), ExpiresAt: s.now().UTC().Add(time.Duration(days) * 24 * time.Hour)}
	if of.ID != a.ID {
		t.MadeBy = a.ID
	}
	v, err := s.tokenView(ctx, t, a)
	if err != nil {
		return wire.MadeToken{}, err
	}
	return wire.MadeToken{Token: v, Value: value}, s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.AddToken(ctx, t); err != nil {
			return err
		}
		return tx.Journal(ctx, t.ID, of.ID, a.ID, journal.TokenMade{Name: t.Name, ExpiresAt: t.ExpiresAt, Repositories: in.Repositories, Scopes: grant.Scopes})
	})
}

// tokenPrefix begins the tokens of programs, for those who look for secrets that
// were left lying about: it, and 43 letters, digits, dashes and underlines.
const tokenPrefix = "yb_token_"

// EndToken ends one of the actor's sign-ins or tokens.
func (s *SignIns) EndToken(ctx context.Context, a Actor, id string) error {
	return s.endToken(ctx, a, a.ID, id)
}

func (s *SignIns) endToken(ctx context.Context, a Actor, of, id string) error {
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropToken(ctx, of, id); err != nil {
			return err
		}
		return tx.Journal(ctx, id, of, a.ID, journal.TokenEnded{})
	})
	if errors.Is(err, store.ErrNotFound) {
		return notFound("sign-in or token", id, "see yours", fault.Do("list-tokens", ""))
	}
	return err
}

// SignOut ends the sign-in the actor came with.
func (s *SignIns) SignOut(ctx context.Context, a Actor) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropToken(ctx, a.ID, a.TokenID); err != nil {
			return err
		}
		return tx.Journal(ctx, a.ID, a.ID, a.ID, journal.SignedOut{})
	})
}

// Me tells who the actor is, and where.
func (s *SignIns) Me(ctx context.Context, a Actor) (wire.Me, error) {
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return wire.Me{}, err
	}
	me := wire.Me{Person: personView(a.Person), Organisation: house.Organisation, Zone: house.Zone.String(), May: a.rights()}
	if !house.Workspaces.OperatorsEnter {
		me.May = slices.DeleteFunc(me.May, func(r wire.Right) bool { return r.Action == string(policy.EnterWorkspace) })
	}
	if me.AgingSecrets, err = s.secrets.aging(ctx, a, house.Secrets.RemindAfter, s.now()); err != nil {
		return me, err
	}
	if a.Guest != nil {
		me.AccessUntil = &a.Guest.Until
	}
	if me.EndingGuests, err = s.guests.Ending(ctx, a); err != nil {
		return me, err
	}
	tokens, err := s.Tokens(ctx, a)
	for _, t := range tokens {
		if t.Current {
			me.Scopes, me.Repositories = t.Scopes, t.Repositories
			if t.Provider != "" && t.Door == "console" {
				me.SignOutAt = "/api/v1/sign-in/" + t.Provider + "/over"
			}
		}
		if (t.Door == "token" || t.Door == keyDoor) && t.ExpiresAt.Sub(s.now()) < remindAhead {
			me.Expiring = append(me.Expiring, t)
		}
	}
	return me, err
}

// providerName is an identity provider's name; "" where it is not any more.
func (s *SignIns) providerName(ctx context.Context, id string) string {
	rows, _ := s.store.Read().Providers(ctx) // it is told without
	for _, p := range rows {
		if p.ID == id {
			return p.Name
		}
	}
	return ""
}

// usedEach is how exactly it is known when a sign-in was used last.
const usedEach = 10 * time.Minute

func (s *SignIns) tokenView(ctx context.Context, t store.Token, a Actor) (wire.Token, error) {
	v := wire.Token{ID: t.ID, Door: t.Door, Name: t.Name, CreatedAt: t.CreatedAt, ExpiresAt: t.ExpiresAt, LastUsedAt: t.LastUsedAt, Current: t.ID == a.TokenID}
	for _, scope := range t.Grant.Scopes {
		v.Scopes = append(v.Scopes, string(scope))
	}
	for _, id := range t.Grant.Repositories {
		r, err := s.store.Read().RepositoryByID(ctx, id)
		if err != nil {
			return v, err
		}
		v.Repositories = append(v.Repositories, r.Name)
	}
	v.Place, v.Client = t.Place, t.Client
	if t.ProviderID != "" {
		v.Provider = s.providerName(ctx, t.ProviderID)
	}
	if t.MadeBy != "" {
		v.MadeBy = nameOf(ctx, s.store.Read(), t.MadeBy)
	}
	return v, nil
}

// remindAhead is how long before a token expires it is told.
const remindAhead = 7 * 24 * time.Hour

// Remind tells the journal of the tokens that expire within a week, each once:
// now, and then every hour until ctx ends.
func (s *SignIns) Remind(ctx context.Context) error {
	err := s.remind(ctx)
	s.keeper.Go(func(context.Context) {
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(time.Hour):
			}
			if err := s.remind(ctx); err != nil && ctx.Err() == nil {
				slog.Warn("of tokens that expire nobody is told now; it is tried again in an hour", "error", err)
			}
		}
	})
	return err
}

func (s *SignIns) remind(ctx context.Context) error {
	soon, err := s.store.Read().ExpiringTokens(ctx, s.now().Add(remindAhead))
	if err != nil || len(soon) == 0 {
		return err
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		for _, t := range soon {
			if err := tx.RemindedOf(ctx, t.ID); err != nil && !errors.Is(err, store.ErrNotFound) {
				return err
			}
			if t.ExpiresAt.Before(s.now()) {
				continue // it has; nobody uses it any more
			}
			if err := tx.Journal(ctx, t.ID, t.PersonID, "service", journal.TokenExpiring{ExpiresAt: t.ExpiresAt, Name: t.Name}); err != nil {
				return err
			}
		}
		return nil
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

// tooMany asks somebody to come again later.
func tooMany(what string, after time.Duration) error {
	return &fault.Fault{Class: fault.TooMany, Kind: "too-many-attempts", Detail: what, Next: "try again in " + rules.Duration(after), After: after}
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
