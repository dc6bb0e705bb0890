package service

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/wire"
)

// Passkeys are what people of the house's own accounts sign in to the console with in
// place of a password (WebAuthn, level 2).
type Passkeys struct {
	address string
	store   *store.Store
	vault   *vault.Vault
	now     func() time.Time
	signIns *SignIns
	mu      sync.Mutex
	used    map[string]time.Time // questions that were answered, until they would have ended
}

const (
	maxPasskeys  = 10
	questionMost = 5 * time.Minute
)

// door is how browsers are asked: by the name of the console's address, which must be a
// name. ok is false where it is a number: browsers have no passkeys there.
func (s *Passkeys) door() (*webauthn.WebAuthn, bool) {
	u, err := url.Parse(s.address)
	if err != nil || u.Hostname() == "" {
		return nil, false
	}
	if _, err := netip.ParseAddr(u.Hostname()); err == nil {
		return nil, false
	}
	w, err := webauthn.New(&webauthn.Config{RPID: u.Hostname(), RPDisplayName: "Yard Bench", RPOrigins: []string{u.Scheme + "://" + u.Host}})
	return w, err == nil
}

func (s *Passkeys) asks() (*webauthn.WebAuthn, error) {
	w, ok := s.door()
	if !ok {
		return nil, conflict("no-passkeys", "the console's address is a number, where browsers have no passkeys", "an operator gives the service one with a name")
	}
	return w, nil
}

// holder is somebody, as the library asks for them.
type holder struct {
	store.Person
	keys []webauthn.Credential
}

func (h holder) WebAuthnID() []byte                         { return []byte(h.ID) }
func (h holder) WebAuthnName() string                       { return h.Name }
func (h holder) WebAuthnDisplayName() string                { return h.FullName }
func (h holder) WebAuthnCredentials() []webauthn.Credential { return h.keys }

func (s *Passkeys) holder(ctx context.Context, p store.Person) (holder, error) {
	rows, err := s.store.Read().Passkeys(ctx, p.ID)
	h := holder{Person: p}
	for _, r := range rows {
		var c webauthn.Credential
		if err := json.Unmarshal([]byte(r.Credential), &c); err != nil {
			return h, fmt.Errorf("passkey %s: %w", r.ID, err)
		}
		h.keys = append(h.keys, c)
	}
	return h, err
}

// question is what is kept, sealed, while a browser answers.
type question struct {
	Session webauthn.SessionData
	Person  string // "" of a sign-in
	Until   time.Time
}

func (s *Passkeys) question(options any, session *webauthn.SessionData, person string) (wire.PasskeyQuestion, error) {
	text, err := json.Marshal(options)
	if err != nil {
		return wire.PasskeyQuestion{}, err
	}
	kept, err := json.Marshal(question{*session, person, s.now().Add(questionMost)})
	if err != nil {
		return wire.PasskeyQuestion{}, err
	}
	sealed, err := s.vault.Seal(string(kept), "passkey")
	return wire.PasskeyQuestion{Options: string(text), Kept: base64.RawURLEncoding.EncodeToString(sealed)}, err
}

// answered opens what was kept, which counts once.
func (s *Passkeys) answered(kept, person string) (session webauthn.SessionData, err error) {
	var q question
	sealed, err := base64.RawURLEncoding.DecodeString(kept)
	if err == nil {
		var text string
		if text, err = s.vault.Open(sealed, "passkey"); err == nil {
			err = json.Unmarshal([]byte(text), &q)
		}
	}
	now := s.now()
	s.mu.Lock()
	defer s.mu.Unlock()
	for c, until := range s.used {
		if now.After(until) {
			delete(s.used, c)
		}
	}
	if _, before := s.used[q.Session.Challenge]; err != nil || before || q.Person != person || now.After(q.Until) {
		return session, stranger("sign-in", "this was asked of somebody else, was answered, or was asked too long ago", "begin anew")
	}
	if s.used == nil {
		s.used = map[string]time.Time{}
	}
	s.used[q.Session.Challenge] = q.Until
	return q.Session, nil
}

// List lists the actor's.
func (s *Passkeys) List(ctx context.Context, a Actor) ([]wire.Passkey, error) {
	if !a.may(policy.SeeSelf) {
		return nil, denied(a, "see your passkeys")
	}
	rows, err := s.store.Read().Passkeys(ctx, a.ID)
	out := []wire.Passkey{}
	for _, r := range rows {
		out = append(out, wire.Passkey{ID: r.ID, Name: r.Name, MadeAt: r.MadeAt, UsedAt: r.UsedAt})
	}
	return out, err
}

// Ask asks a browser of the actor's for a new one.
func (s *Passkeys) Ask(ctx context.Context, a Actor) (wire.PasskeyQuestion, error) {
	w, err := s.asks()
	if err == nil && (!a.may(policy.ChangeSelf) || a.Program) {
		err = denied(a, "make passkeys")
	}
	if err != nil {
		return wire.PasskeyQuestion{}, err
	}
	h, err := s.holder(ctx, a.Person)
	if err != nil {
		return wire.PasskeyQuestion{}, err
	}
	var not []protocol.CredentialDescriptor
	for _, c := range h.keys {
		not = append(not, c.Descriptor())
	}
	options, session, err := w.BeginRegistration(h, webauthn.WithExclusions(not), webauthn.WithAuthenticatorSelection(protocol.AuthenticatorSelection{ResidentKey: protocol.ResidentKeyRequirementRequired, RequireResidentKey: protocol.ResidentKeyRequired(), UserVerification: protocol.VerificationRequired}))
	if err != nil {
		return wire.PasskeyQuestion{}, err
	}
	return s.question(options.Response, session, a.ID)
}

// Make takes a browser's answer, and makes the actor a passkey of it.
func (s *Passkeys) Make(ctx context.Context, a Actor, in wire.NewPasskey, from string) (wire.Passkey, error) {
	w, err := s.asks()
	if err == nil && !a.may(policy.ChangeSelf) {
		err = denied(a, "make passkeys")
	}
	if err != nil {
		return wire.Passkey{}, err
	}
	name := strings.TrimSpace(in.Name)
	if hasControl(name) || name == "" {
		return wire.Passkey{}, invalid("this is no name of a passkey", "call it after where it is, like my laptop")
	}
	if a.PasswordHash != "" {
		right, err := s.signIns.knows(ctx, a.Name, a.Person, in.Password, from)
		if err != nil {
			return wire.Passkey{}, err
		}
		if !right {
			return wire.Passkey{}, invalidAs("password", "the password is another", "give the one that you sign in with")
		}
	}
	session, err := s.answered(in.Kept, a.ID)
	if err != nil {
		return wire.Passkey{}, err
	}
	h, err := s.holder(ctx, a.Person)
	if err != nil {
		return wire.Passkey{}, err
	}
	var made *webauthn.Credential
	parsed, err := protocol.ParseCredentialCreationResponseBytes([]byte(in.Answer))
	if err == nil {
		made, err = w.CreateCredential(h, session, parsed)
	}
	if err != nil {
		slog.Warn("a passkey was not made", "person", a.Name, "error", err)
		return wire.Passkey{}, invalidAs("passkey", "the browser's answer is not to be believed", "try again")
	}
	text, err := json.Marshal(made)
	if err != nil {
		return wire.Passkey{}, err
	}
	k := store.Passkey{ID: base64.RawURLEncoding.EncodeToString(made.ID), PersonID: a.ID, Name: name, Credential: string(text)}
	return wire.Passkey{ID: k.ID, Name: name, MadeAt: s.now().UTC()}, s.store.Write(ctx, func(tx *store.Tx) error {
		all, err := tx.Passkeys(ctx, a.ID)
		if err != nil {
			return err
		}
		if len(all) >= maxPasskeys {
			return conflict("too-many", fmt.Sprintf("you have %d passkeys", len(all)), "remove one first")
		}
		if err := tx.AddPasskey(ctx, k); err != nil {
			return err
		}
		return tx.Journal(ctx, a.ID, a.ID, a.ID, journal.PasskeyMade{Name: name})
	})
}

// Drop forgets one of the actor's.
func (s *Passkeys) Drop(ctx context.Context, a Actor, id string) error {
	if !a.may(policy.ChangeSelf) {
		return denied(a, "remove passkeys")
	}
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropPasskey(ctx, a.ID, id); err != nil {
			return err
		}
		return tx.Journal(ctx, a.ID, a.ID, a.ID, journal.PasskeyRemoved{})
	})
	if errors.Is(err, store.ErrNotFound) {
		return notFound("passkey of yours", id, "see them on your page")
	}
	return err
}

// AskWho asks a browser for whoever has a passkey of this house.
func (s *Passkeys) AskWho() (wire.PasskeyQuestion, error) {
	w, err := s.asks()
	if err != nil {
		return wire.PasskeyQuestion{}, err
	}
	options, session, err := w.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return wire.PasskeyQuestion{}, err
	}
	return s.question(options.Response, session, "")
}

// SignIn takes a browser's answer, and signs in whose passkey it is. Where the house
// rules close passwords it is for operators alone, as those are.
func (s *Passkeys) SignIn(ctx context.Context, in wire.PasskeySignIn, from Caller) (wire.SignedIn, error) {
	w, err := s.asks()
	if err != nil {
		return wire.SignedIn{}, err
	}
	succeeded, _, ok := s.signIns.attempts.Begin("passkey "+from.Place, from.Place, s.now())
	if !ok {
		return wire.SignedIn{}, tooMany("too many sign-ins have failed from this address", 5*time.Minute)
	}
	session, err := s.answered(in.Kept, "")
	if err != nil {
		return wire.SignedIn{}, err
	}
	nobody := stranger("sign-in", "this passkey lets nobody in", "use another, or your password")
	var who webauthn.User
	var used *webauthn.Credential
	parsed, err := protocol.ParseCredentialRequestResponseBytes([]byte(in.Answer))
	if err == nil {
		who, used, err = w.ValidatePasskeyLogin(func(_, person []byte) (webauthn.User, error) {
			p, err := s.store.Read().PersonByID(ctx, string(person))
			if err != nil {
				return nil, err
			}
			return s.holder(ctx, p)
		}, session, parsed)
	}
	p, is := who.(holder)
	if err != nil || !is || used.Authenticator.CloneWarning || p.Left(s.now()) {
		slog.Warn("a passkey let nobody in", "place", from.Place, "error", err)
		return wire.SignedIn{}, nobody
	}
	succeeded()
	text, err := json.Marshal(used)
	if err != nil {
		return wire.SignedIn{}, err
	}
	return s.signIns.signedIn(ctx, p.Person, "console", from, func(tx *store.Tx) error {
		return tx.PasskeyUsed(ctx, base64.RawURLEncoding.EncodeToString(used.ID), string(text))
	})
}
