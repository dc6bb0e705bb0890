package store

import (
	"cmp"
	"context"
	"time"
)

// Sealed is a git credential, encrypted.
type Sealed struct {
	PersonID  string
	Name      string // the git host
	Username  string
	Sealed    []byte
	UpdatedAt time.Time
}

func scanSealed(scan func(...any) error) (s Sealed, err error) {
	var at int64
	err = scan(&s.PersonID, &s.Name, &s.Username, &s.Sealed, &at)
	s.UpdatedAt = fromMicros(at)
	return s, err
}

// PutGitCredential sets what a person signs in to a git host with.
func (tx secretsWrites) PutGitCredential(ctx context.Context, s Sealed) error {
	tx.cached()
	return tx.exec(ctx, `INSERT INTO git_credentials (person_id, host, username, sealed, updated_at) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (person_id, host) DO UPDATE SET username = excluded.username, sealed = excluded.sealed, updated_at = excluded.updated_at`,
		s.PersonID, s.Name, s.Username, s.Sealed, micros(tx.now))
}

// DropGitCredential forgets what a person signs in to a git host with.
func (tx secretsWrites) DropGitCredential(ctx context.Context, person, host string) error {
	tx.cached()
	return tx.mustChange(ctx, "DELETE FROM git_credentials WHERE person_id = ? AND host = ?", person, host)
}

// GitCredentials lists what a person signs in to git hosts with, sealed.
func (q secretsReads) GitCredentials(ctx context.Context, person string) ([]Sealed, error) {
	return list(ctx, q.reader, scanSealed, "SELECT person_id, host, username, sealed, updated_at FROM git_credentials WHERE person_id = ? ORDER BY host", person)
}

// GitCredential finds what a person signs in to a git host with.
func (q secretsReads) GitCredential(ctx context.Context, person, host string) (Sealed, error) {
	all, err := cached(q.reader, "git credential "+person+" "+host, func() ([]Sealed, error) {
		return list(ctx, q.reader, scanSealed, "SELECT person_id, host, username, sealed, updated_at FROM git_credentials WHERE person_id = ? AND host = ?", person, host)
	})
	if err != nil || len(all) == 0 {
		return Sealed{}, cmp.Or(err, ErrNotFound)
	}
	return all[0], nil
}
