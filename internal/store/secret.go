package store

import (
	"context"
	"time"

	"yardbench/internal/core/secret"
)

type (
	secretsReads  struct{ reader }
	secretsWrites struct{ *txn }
)

// Secret is a stored secret: what is known of it, and its sealed value.
type Secret struct {
	secret.Secret
	SubjectID string // the person's or repository's
	Sealed    []byte
	UpdatedAt time.Time
	UpdatedBy string
}

// PutSecret sets a secret's value, form and whom it is given to. seal is
// called with the new version. repositories are those a person's secret is
// given to, by id, unless it is given everywhere.
func (tx secretsWrites) PutSecret(ctx context.Context, s Secret, repositories []string, seal func(version int) ([]byte, error)) (version int, err error) {
	if err := tx.db.QueryRowContext(ctx, "SELECT COALESCE(MAX(version), 0) + 1 FROM secrets WHERE level = ? AND subject_id = ? AND name = ?", s.Level, s.SubjectID, s.Name).Scan(&version); err != nil {
		return 0, err
	}
	sealed, err := seal(version)
	if err != nil {
		return 0, err
	}
	if err := tx.exec(ctx, `INSERT INTO secrets (level, subject_id, name, form, everywhere, version, sealed, updated_at, updated_by) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (level, subject_id, name) DO UPDATE SET form = excluded.form, everywhere = excluded.everywhere, version = excluded.version,
		sealed = excluded.sealed, updated_at = excluded.updated_at, updated_by = excluded.updated_by`,
		s.Level, s.SubjectID, s.Name, s.Form, s.Everywhere, version, sealed, micros(tx.now), s.UpdatedBy); err != nil {
		return 0, err
	}
	if s.Level != secret.OfPerson {
		return version, nil
	}
	if err := tx.exec(ctx, "DELETE FROM secret_repositories WHERE person_id = ? AND name = ?", s.SubjectID, s.Name); err != nil {
		return 0, err
	}
	for _, r := range repositories {
		if err := tx.exec(ctx, "INSERT OR IGNORE INTO secret_repositories (person_id, name, repository_id) VALUES (?, ?, ?)", s.SubjectID, s.Name, r); err != nil {
			return 0, err
		}
	}
	return version, nil
}

// DropSecret removes a secret; ErrNotFound when there is none.
func (tx secretsWrites) DropSecret(ctx context.Context, level secret.Level, subject, name string) error {
	if level == secret.OfPerson {
		if err := tx.exec(ctx, "DELETE FROM secret_repositories WHERE person_id = ? AND name = ?", subject, name); err != nil {
			return err
		}
	}
	return tx.mustChange(ctx, "DELETE FROM secrets WHERE level = ? AND subject_id = ? AND name = ?", level, subject, name)
}

// Secrets lists the secrets of a person or repository, sealed, by name.
func (q secretsReads) Secrets(ctx context.Context, level secret.Level, subject string) ([]Secret, error) {
	out, err := list(ctx, q.reader, func(scan func(...any) error) (s Secret, err error) {
		var at int64
		err = scan(&s.Level, &s.SubjectID, &s.Name, &s.Form, &s.Everywhere, &s.Version, &s.Sealed, &at, &s.UpdatedBy, &s.Repository)
		s.UpdatedAt = fromMicros(at)
		return s, err
	}, `SELECT s.level, s.subject_id, s.name, s.form, s.everywhere, s.version, s.sealed, s.updated_at, s.updated_by, COALESCE(r.name, '')
		FROM secrets s LEFT JOIN repositories r ON s.level = 'repository' AND r.id = s.subject_id WHERE s.level = ? AND s.subject_id = ? ORDER BY s.name`, level, subject)
	if err != nil || level != secret.OfPerson {
		return out, err
	}
	for i := range out {
		if out[i].Repositories, err = list(ctx, q.reader, func(scan func(...any) error) (n string, err error) { return n, scan(&n) },
			"SELECT r.name FROM secret_repositories s JOIN repositories r ON r.id = s.repository_id WHERE s.person_id = ? AND s.name = ? ORDER BY r.name", subject, out[i].Name); err != nil {
			return nil, err
		}
	}
	return out, nil
}
