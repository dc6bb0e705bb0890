package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"yardbench/internal/core/policy"
)

// The reads and writes of sign-ins and tokens.
type (
	tokensReads  struct{ reader }
	tokensWrites struct{ *txn }
)

// Token is a sign-in, or a token with a name; only a hash of what the person
// holds is kept.
type Token struct {
	ID, PersonID string
	Hash         []byte
	Door         string // console, cli, or token
	Name         string // what its owner calls it, for a token
	Grant        policy.Grant
	MadeBy       string // who made it, where that is another than its person
	CreatedAt    time.Time
	ExpiresAt    time.Time
	LastUsedAt   *time.Time
	// ProviderID and Session are the identity provider by which it was made, and its
	// session there; Place the address, and Client what asked for it.
	ProviderID, Session string
	Place, Client       string
	// Next tells that it was found by the value that it is to have, and Earlier by the
	// one that it had: see RenewToken.
	Next, Earlier bool
}

const tokenColumns = "id, person_id, hash, door, name, created_at, expires_at, last_used_at, grant_json, made_by, provider_id, provider_session, place, client"

func scanToken(scan func(...any) error) (t Token, err error) {
	var created, expires int64
	var used sql.NullInt64
	var grant []byte
	err = scan(&t.ID, &t.PersonID, &t.Hash, &t.Door, &t.Name, &created, &expires, &used, &grant, &t.MadeBy, &t.ProviderID, &t.Session, &t.Place, &t.Client)
	if err == nil {
		err = json.Unmarshal(grant, &t.Grant)
	}
	t.CreatedAt, t.ExpiresAt, t.LastUsedAt = fromMicros(created), fromMicros(expires), fromNullMicros(used)
	return t, err
}

// AddToken adds a sign-in and forgets those of the person that have expired.
func (tx tokensWrites) AddToken(ctx context.Context, t Token) error {
	if err := tx.exec(ctx, "DELETE FROM tokens WHERE person_id = ? AND expires_at < ?", t.PersonID, micros(tx.now)); err != nil {
		return err
	}
	grant, err := json.Marshal(t.Grant)
	if err != nil {
		return err
	}
	return tx.exec(ctx, "INSERT INTO tokens ("+tokenColumns+") VALUES (?, ?, ?, ?, ?, ?, ?, NULL, ?, ?, ?, ?, ?, ?)",
		t.ID, t.PersonID, t.Hash, t.Door, t.Name, micros(tx.now), micros(t.ExpiresAt), string(grant), t.MadeBy, t.ProviderID, t.Session, t.Place, t.Client)
}

// TokenByHash finds a sign-in that has not expired at now, by any of its values.
func (q tokensReads) TokenByHash(ctx context.Context, hash []byte, now time.Time) (Token, error) {
	t, err := one(ctx, q.reader, scanToken, "SELECT "+tokenColumns+" FROM tokens WHERE hash = ? AND expires_at > ?", hash, micros(now))
	if !errors.Is(err, ErrNotFound) {
		return t, err
	}
	type value struct {
		token string
		next  bool
	}
	v, err := one(ctx, q.reader, func(scan func(...any) error) (v value, err error) { return v, scan(&v.token, &v.next) },
		"SELECT token_id, next FROM token_values WHERE hash = ? AND until > ?", hash, micros(now))
	if err != nil {
		return Token{}, err
	}
	t, err = q.TokenByID(ctx, v.token, now)
	t.Next, t.Earlier = v.next, !v.next
	return t, err
}

// RenewToken gives a sign-in the value that it is to have. It has its own until that is
// used: an answer may be lost.
func (tx tokensWrites) RenewToken(ctx context.Context, t Token, next []byte) error {
	if err := tx.exec(ctx, "DELETE FROM token_values WHERE token_id = ? AND next = 1", t.ID); err != nil {
		return err
	}
	return tx.exec(ctx, "INSERT INTO token_values (hash, token_id, next, until) VALUES (?, ?, 1, ?)", next, t.ID, micros(t.ExpiresAt))
}

// TakeRenewed has a sign-in have the value that it was to have, as that was used; the one
// before is good for a while more, and none before that. ErrNotFound where it has it
// already.
func (tx tokensWrites) TakeRenewed(ctx context.Context, t Token, next []byte, while time.Duration) error {
	if err := tx.mustChange(ctx, "DELETE FROM token_values WHERE hash = ? AND next = 1", next); err != nil {
		return err
	}
	if err := tx.exec(ctx, "DELETE FROM token_values WHERE token_id = ?", t.ID); err != nil {
		return err
	}
	if err := tx.exec(ctx, "INSERT INTO token_values (hash, token_id, next, until) SELECT hash, id, 0, ? FROM tokens WHERE id = ?", micros(tx.now.Add(while)), t.ID); err != nil {
		return err
	}
	return tx.mustChange(ctx, "UPDATE tokens SET hash = ? WHERE id = ?", next, t.ID)
}

// TokenByID finds a sign-in that has not expired at now.
func (q tokensReads) TokenByID(ctx context.Context, id string, now time.Time) (Token, error) {
	return one(ctx, q.reader, scanToken, "SELECT "+tokenColumns+" FROM tokens WHERE id = ? AND expires_at > ?", id, micros(now))
}

// Tokens lists a person's sign-ins that have not expired at now, newest first.
func (q tokensReads) Tokens(ctx context.Context, person string, now time.Time) ([]Token, error) {
	return list(ctx, q.reader, scanToken, "SELECT "+tokenColumns+" FROM tokens WHERE person_id = ? AND expires_at > ? ORDER BY created_at DESC", person, micros(now))
}

// ExpiringTokens lists the tokens of programs that expire before a time, and of
// which nobody was told.
func (q tokensReads) ExpiringTokens(ctx context.Context, before time.Time) ([]Token, error) {
	return list(ctx, q.reader, scanToken, "SELECT "+tokenColumns+" FROM tokens WHERE door = 'token' AND reminded = 0 AND expires_at < ? ORDER BY expires_at", micros(before))
}

// RemindedOf notes that somebody was told that a token expires.
func (tx tokensWrites) RemindedOf(ctx context.Context, id string) error {
	return tx.mustChange(ctx, "UPDATE tokens SET reminded = 1 WHERE id = ? AND reminded = 0", id)
}

// UsedToken notes that a sign-in was used.
func (tx tokensWrites) UsedToken(ctx context.Context, id string) error {
	return tx.exec(ctx, "UPDATE tokens SET last_used_at = ? WHERE id = ?", micros(tx.now), id)
}

// DropToken ends a person's sign-in; ErrNotFound when they have none with the id.
func (tx tokensWrites) DropToken(ctx context.Context, person, id string) error {
	tx.shift(person)
	return tx.mustChange(ctx, "DELETE FROM tokens WHERE id = ? AND person_id = ?", id, person)
}

// DropTokensBut ends all of a person's sign-ins but one.
func (tx tokensWrites) DropTokensBut(ctx context.Context, person, id string) error {
	tx.shift(person)
	return tx.exec(ctx, "DELETE FROM tokens WHERE person_id = ? AND id <> ?", person, id)
}

// DropTokens ends all of a person's sign-ins.
func (tx tokensWrites) DropTokens(ctx context.Context, person string) error {
	tx.shift(person)
	return tx.exec(ctx, "DELETE FROM tokens WHERE person_id = ?", person)
}
