package store

import (
	"cmp"
	"context"
	"database/sql"
	"time"
)

// Sealed is a git credential, encrypted.
type Sealed struct {
	PersonID  string
	Name      string // the git host
	Username  string
	Sealed    []byte
	UpdatedAt time.Time
	// Lent by the host itself, and not typed: until when, sealed what it is made
	// fresh by, and since when the host knows nothing of it any more.
	Lent        bool
	Refresh     []byte
	Until       *time.Time
	TakenBackAt *time.Time
}

const sealedColumns = "c.person_id, c.host, c.username, c.sealed, c.updated_at, c.lent, c.refresh, c.until, c.taken_back"

func scanSealed(scan func(...any) error) (s Sealed, err error) {
	var at int64
	var until, taken sql.NullInt64
	err = scan(&s.PersonID, &s.Name, &s.Username, &s.Sealed, &at, &s.Lent, &s.Refresh, &until, &taken)
	s.UpdatedAt, s.Until, s.TakenBackAt = fromMicros(at), fromNullMicros(until), fromNullMicros(taken)
	return s, err
}

// PutGitCredential sets what a person signs in to a git host with.
func (tx secretsWrites) PutGitCredential(ctx context.Context, s Sealed) error {
	tx.cached()
	var until sql.NullInt64
	if s.Until != nil {
		until = sql.NullInt64{Int64: micros(*s.Until), Valid: true}
	}
	return tx.exec(ctx, `INSERT INTO git_credentials (person_id, host, username, sealed, updated_at, lent, refresh, until) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (person_id, host) DO UPDATE SET username = excluded.username, sealed = excluded.sealed, updated_at = excluded.updated_at,
		lent = excluded.lent, refresh = excluded.refresh, until = excluded.until, taken_back = NULL`,
		s.PersonID, s.Name, s.Username, s.Sealed, micros(tx.now), s.Lent, append([]byte{}, s.Refresh...), until)
}

// DropGitCredential forgets what a person signs in to a git host with.
func (tx secretsWrites) DropGitCredential(ctx context.Context, person, host string) error {
	tx.cached()
	return tx.mustChange(ctx, "DELETE FROM git_credentials WHERE person_id = ? AND host = ?", person, host)
}

// GitCredentials lists what a person signs in to git hosts with, sealed.
func (q secretsReads) GitCredentials(ctx context.Context, person string) ([]Sealed, error) {
	return list(ctx, q.reader, scanSealed, "SELECT "+sealedColumns+" FROM git_credentials c WHERE person_id = ? ORDER BY host", person)
}

// GitCredential finds what a person signs in to a git host with.
func (q secretsReads) GitCredential(ctx context.Context, person, host string) (Sealed, error) {
	all, err := cached(q.reader, "git credential "+person+" "+host, func() ([]Sealed, error) {
		return list(ctx, q.reader, scanSealed, "SELECT "+sealedColumns+" FROM git_credentials c WHERE person_id = ? AND host = ?", person, host)
	})
	if err != nil || len(all) == 0 {
		return Sealed{}, cmp.Or(err, ErrNotFound)
	}
	return all[0], nil
}
