package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"time"

	"golang.org/x/crypto/argon2"

	"yardbench/internal/core/secret"
	"yardbench/internal/keeper"
	"yardbench/internal/store"
	"yardbench/internal/wire"
)

// Lifetimes of sign-ins, by door.
const (
	ConsoleLifetime = 12 * time.Hour
	CLILifetime     = 30 * 24 * time.Hour
)

// Bounds on failed sign-ins for one name.
const (
	maxAttempts   = 10
	attemptWindow = 5 * time.Minute
)

var personName = regexp.MustCompile(`^[a-z][a-z0-9]{0,31}$`)

// AddPerson adds somebody who may sign in. It is not behind a door yet: the
// first start and the demo call it.
func (s *Service) AddPerson(ctx context.Context, p store.Person, password string) error {
	if !personName.MatchString(p.Name) {
		return invalid(fmt.Sprintf("%q is no name to sign in with", p.Name), "use lower-case letters and digits, at most 32")
	}
	if len(password) < 8 {
		return invalid("the password is too short", "use at least 8 characters")
	}
	p.ID, p.PasswordHash = store.NewID(), hashPassword(password)
	err := s.Store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.AddPerson(ctx, p); err != nil {
			return err
		}
		return tx.Journal(ctx, "person.added", p.ID, p.ID, "service", map[string]any{"role": p.Role})
	})
	if store.IsDuplicate(err) {
		return conflict("name-taken", "there is a person "+quote(p.Name)+" already", "choose another name")
	}
	return err
}

// SignIn checks a password and gives a token for a door ("console" or "cli").
func (s *Service) SignIn(ctx context.Context, in wire.SignIn, door string) (wire.SignedIn, error) {
	now := time.Now()
	if s.attempts.tooMany(in.Name, now) {
		return wire.SignedIn{}, problem(http.StatusTooManyRequests, "too-many-attempts", "too many failed sign-ins for this name", "wait five minutes")
	}
	p, err := s.Store.Read().PersonByName(ctx, in.Name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return wire.SignedIn{}, err
	}
	// An unknown name takes the same time and gets the same answer.
	if err != nil {
		p.PasswordHash = absent()
	}
	if !checkPassword(p.PasswordHash, in.Password) || p.ID == "" {
		s.attempts.failed(in.Name, now)
		return wire.SignedIn{}, problem(http.StatusUnauthorized, "sign-in", "this name and password do not go together", "check both; an operator can set a new password")
	}
	token, hash := newToken()
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
	t, err := s.Store.Read().TokenByHash(ctx, hash[:], time.Now())
	if errors.Is(err, store.ErrNotFound) {
		return Actor{}, denied
	}
	if err != nil {
		return Actor{}, err
	}
	p, err := s.Store.Read().PersonByID(ctx, t.PersonID)
	return Actor{p, t.ID}, err
}

// SignOut ends the sign-in the actor came with.
func (s *Service) SignOut(ctx context.Context, a Actor) error {
	return s.Store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropToken(ctx, a.TokenID); err != nil {
			return err
		}
		return tx.Journal(ctx, "person.signed-out", a.ID, a.ID, a.ID, map[string]any{})
	})
}

// Me tells who the actor is.
func (s *Service) Me(a Actor) wire.Person { return personView(a.Person) }

func personView(p store.Person) wire.Person {
	return wire.Person{Name: p.Name, FullName: p.FullName, Role: p.Role}
}

// PutSecret sets one of the actor's secrets.
func (s *Service) PutSecret(ctx context.Context, a Actor, name, value string) error {
	if err := secret.CheckName(name); err != nil {
		return invalid(err.Error(), "")
	}
	if err := secret.CheckValue(value); err != nil {
		return invalid(err.Error(), "")
	}
	return s.Store.Write(ctx, func(tx *store.Tx) error {
		version, err := tx.PutSecret(ctx, a.ID, name, func(version int) ([]byte, error) {
			return s.Vault.Seal(value, keeper.SecretPlace(a.ID, name, version)...)
		})
		if err != nil {
			return err
		}
		return tx.Journal(ctx, "secret.put", a.ID, a.ID, a.ID, map[string]any{"name": name, "version": version})
	})
}

// Secrets lists the names of the actor's secrets.
func (s *Service) Secrets(ctx context.Context, a Actor) ([]wire.Secret, error) {
	rows, err := s.Store.Read().Secrets(ctx, a.ID)
	out := []wire.Secret{}
	for _, r := range rows {
		out = append(out, wire.Secret{Name: r.Name, Version: r.Version, UpdatedAt: r.UpdatedAt})
	}
	return out, err
}

// DropSecret removes one of the actor's secrets.
func (s *Service) DropSecret(ctx context.Context, a Actor, name string) error {
	err := s.Store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropSecret(ctx, a.ID, name); err != nil {
			return err
		}
		return tx.Journal(ctx, "secret.removed", a.ID, a.ID, a.ID, map[string]any{"name": name})
	})
	if errors.Is(err, store.ErrNotFound) {
		return notFound("secret", name, "see yours with: yardbench secret list")
	}
	return err
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
	sealed, err := s.Vault.Seal(c.Password, keeper.GitPlace(a.ID, host)...)
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

// Passwords: argon2id with the second recommended parameters of RFC 9106, 4
// (64 MiB, 3 passes), stored in the PHC string form.
const (
	argonMemoryKiB = 64 << 10
	argonPasses    = 3
	argonLanes     = 4
)

func hashPassword(password string) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt) // never fails, by its documentation
	key := argon2.IDKey([]byte(password), salt, argonPasses, argonMemoryKiB, argonLanes, 32)
	b := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$%s$%s", argonMemoryKiB, argonPasses, argonLanes, b.EncodeToString(salt), b.EncodeToString(key))
}

func checkPassword(hash, password string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 {
		return false
	}
	var m, t uint32
	var p uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &m, &t, &p); err != nil {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil {
		return false
	}
	return subtle.ConstantTimeCompare(want, argon2.IDKey([]byte(password), salt, t, m, p, uint32(len(want)))) == 1
}

// absent is a hash that nobody's password has.
func absent() string {
	return fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$AAAAAAAAAAAAAAAAAAAAAA$%s", argonMemoryKiB, argonPasses, argonLanes, strings.Repeat("A", 43))
}

// newToken makes a token of 256 random bits and the hash that is kept of it.
func newToken() (token string, hash []byte) {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails, by its documentation
	token = "yb_" + base64.RawURLEncoding.EncodeToString(b)
	sum := sha256.Sum256([]byte(token))
	return token, sum[:]
}

func (a *attempts) tooMany(name string, now time.Time) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return len(a.recent(name, now)) >= maxAttempts
}

func (a *attempts) failed(name string, now time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.count == nil || len(a.count) > 10_000 { // bounded: a flood of names starts afresh
		a.count = map[string][]int64{}
	}
	a.count[name] = append(a.recent(name, now), now.UnixNano())
}

func (a *attempts) recent(name string, now time.Time) (kept []int64) {
	for _, t := range a.count[name] {
		if now.UnixNano()-t < int64(attemptWindow) {
			kept = append(kept, t)
		}
	}
	return kept
}
