package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"log/slog"
	"strings"
	"sync"
	"time"

	"yardbench/internal/core/journal"
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
	house    *house.Book
	keeper   *reconcile.Keeper
	store    *store.Store
	now      func() time.Time
	attempts password.Attempts
	usedAt   struct { // sign-ins, as noted or being noted
		mu sync.Mutex
		of map[string]time.Time
	}
}

// SignIn checks a password and gives a token for a door ("console" or "cli").
// from is the address that it is asked from.
func (s *SignIns) SignIn(ctx context.Context, in wire.SignIn, door, from string) (wire.SignedIn, error) {
	now := s.now()
	p, err := s.store.Read().PersonByName(ctx, in.Name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return wire.SignedIn{}, err
	}
	// An unknown name takes the same time and gets the same answer.
	right, err := s.knows(ctx, in.Name, p, in.Password, from)
	if err != nil {
		return wire.SignedIn{}, err
	}
	if !right {
		return wire.SignedIn{}, stranger("sign-in", "this name and password do not go together", "check both; an operator can set a new password")
	}
	token, hash := newToken("yb_")
	life := CLILifetime
	if door == "console" {
		life = ConsoleLifetime
	}
	out := wire.SignedIn{Person: personView(p), Token: token, ExpiresAt: now.Add(life).UTC()}
	return out, s.store.Write(ctx, func(tx *store.Tx) error {
		t := store.Token{ID: store.NewID(), PersonID: p.ID, Hash: hash, Door: door, ExpiresAt: out.ExpiresAt}
		if err := tx.AddToken(ctx, t); err != nil {
			return err
		}
		return tx.Journal(ctx, p.ID, p.ID, p.ID, journal.SignedIn{Door: door})
	})
}

// knows tells whether somebody knows the password of a person, who may be nobody.
// How often it may be wrong is counted by name and by the address from which it
// is asked.
func (s *SignIns) knows(ctx context.Context, name string, p store.Person, text, from string) (bool, error) {
	succeeded, ok := s.attempts.Begin(name, from, s.now())
	if !ok {
		return false, tooMany("too many sign-ins have failed for this name, or from this address", 5*time.Minute)
	}
	right, err := password.Check(ctx, p.PasswordHash, text)
	if errors.Is(err, password.ErrBusy) {
		return false, tooMany(err.Error(), 10*time.Second)
	}
	if err != nil || !right || p.ID == "" || p.ClosedAt != nil {
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
	denied := stranger("sign-in", "you are not signed in, or your sign-in has ended", "sign in with: yardbench sign-in")
	if token == "" {
		return Actor{}, denied
	}
	hash := sha256.Sum256([]byte(token))
	t, err := s.store.Read().TokenByHash(ctx, hash[:], s.now())
	if errors.Is(err, store.ErrNotFound) {
		return Actor{}, denied
	}
	if err != nil {
		return Actor{}, err
	}
	p, err := s.store.Read().PersonByID(ctx, t.PersonID)
	if err == nil && p.ClosedAt != nil {
		return Actor{}, denied
	}
	if err == nil {
		s.used(t)
	}
	return Actor{Person: p, TokenID: t.ID}, err
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
	rows, err := s.store.Read().Tokens(ctx, a.ID, s.now())
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

// MakeToken makes a token with a name, for programs.
func (s *SignIns) MakeToken(ctx context.Context, a Actor, in wire.NewToken) (wire.MadeToken, error) {
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
	return wire.MadeToken{Token: tokenView(t, a), Value: value}, s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.AddToken(ctx, t); err != nil {
			return err
		}
		return tx.Journal(ctx, t.ID, a.ID, a.ID, journal.TokenMade{Name: name, ExpiresAt: t.ExpiresAt})
	})
}

// EndToken ends one of the actor's sign-ins or tokens.
func (s *SignIns) EndToken(ctx context.Context, a Actor, id string) error {
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropToken(ctx, a.ID, id); err != nil {
			return err
		}
		return tx.Journal(ctx, id, a.ID, a.ID, journal.TokenEnded{})
	})
	if errors.Is(err, store.ErrNotFound) {
		return notFound("sign-in or token", id, "see yours with: yardbench token list")
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
	return wire.Me{Person: personView(a.Person), Organisation: house.Organisation}, err
}

// usedEach is how exactly it is known when a sign-in was used last.
const usedEach = 10 * time.Minute

func tokenView(t store.Token, a Actor) wire.Token {
	return wire.Token{ID: t.ID, Door: t.Door, Name: t.Name, CreatedAt: t.CreatedAt, ExpiresAt: t.ExpiresAt, LastUsedAt: t.LastUsedAt, Current: t.ID == a.TokenID}
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
