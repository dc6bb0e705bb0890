package store

import (
	"context"
	"database/sql"
	"time"
)

type (
	passkeysReads  struct{ reader }
	passkeysWrites struct{ *txn }
)

// Passkey is what somebody signs in with in place of a password.
type Passkey struct {
	ID, PersonID, Name string
	Credential         string // JSON; it holds nothing secret
	MadeAt             time.Time
	UsedAt             *time.Time
}

func scanPasskey(scan func(...any) error) (k Passkey, err error) {
	var made int64
	var used sql.NullInt64
	err = scan(&k.ID, &k.PersonID, &k.Name, &k.Credential, &made, &used)
	k.MadeAt, k.UsedAt = fromMicros(made), fromNullMicros(used)
	return k, err
}

const passkeyQuery = "SELECT id, person_id, name, credential, made_at, used_at FROM passkeys "

// Passkeys lists somebody's, the oldest first.
func (q passkeysReads) Passkeys(ctx context.Context, person string) ([]Passkey, error) {
	return list(ctx, q.reader, scanPasskey, passkeyQuery+"WHERE person_id = ? ORDER BY made_at", person)
}

// AddPasskey adds one.
func (tx passkeysWrites) AddPasskey(ctx context.Context, k Passkey) error {
	return tx.exec(ctx, "INSERT INTO passkeys (id, person_id, name, credential, made_at) VALUES (?, ?, ?, ?, ?)", k.ID, k.PersonID, k.Name, k.Credential, micros(tx.now))
}

// PasskeyUsed notes that somebody signed in with one, and how it is since.
func (tx passkeysWrites) PasskeyUsed(ctx context.Context, id, credential string) error {
	return tx.mustChange(ctx, "UPDATE passkeys SET credential = ?, used_at = ? WHERE id = ?", credential, micros(tx.now), id)
}

// DropPasskey forgets one of somebody's.
func (tx passkeysWrites) DropPasskey(ctx context.Context, person, id string) error {
	return tx.mustChange(ctx, "DELETE FROM passkeys WHERE person_id = ? AND id = ?", person, id)
}
