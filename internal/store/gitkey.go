package store

import (
	"cmp"
	"context"
	"time"
)

type (
	gitKeysReads  struct{ reader }
	gitKeysWrites struct{ *txn }
)

// GitKey is what somebody signs in to git hosts with by SSH, and signs commits with.
type GitKey struct {
	PersonID string
	Public   string // a line as in authorized_keys
	Sealed   []byte // the private half
	Signs    bool   // their commits are signed without being asked for
	MadeAt   time.Time
}

// GitKey is somebody's.
func (q gitKeysReads) GitKey(ctx context.Context, person string) (GitKey, error) {
	all, err := cached(q.reader, "git key "+person, func() ([]GitKey, error) {
		return list(ctx, q.reader, func(scan func(...any) error) (k GitKey, err error) {
			var at int64
			err = scan(&k.PersonID, &k.Public, &k.Sealed, &k.Signs, &at)
			k.MadeAt = fromMicros(at)
			return k, err
		}, "SELECT person_id, public, sealed, signs, made_at FROM git_keys WHERE person_id = ?", person)
	})
	if err != nil || len(all) == 0 {
		return GitKey{}, cmp.Or(err, ErrNotFound)
	}
	return all[0], nil
}

// PutGitKey gives somebody a key, in the place of the one they had.
func (tx gitKeysWrites) PutGitKey(ctx context.Context, k GitKey) error {
	tx.cached()
	return tx.exec(ctx, `INSERT INTO git_keys (person_id, public, sealed, signs, made_at) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (person_id) DO UPDATE SET public = excluded.public, sealed = excluded.sealed, signs = excluded.signs, made_at = excluded.made_at`,
		k.PersonID, k.Public, k.Sealed, k.Signs, micros(k.MadeAt))
}

// DropGitKey forgets somebody's key.
func (tx gitKeysWrites) DropGitKey(ctx context.Context, person string) error {
	tx.cached()
	return tx.mustChange(ctx, "DELETE FROM git_keys WHERE person_id = ?", person)
}
