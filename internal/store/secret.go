package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"strings"
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
	SubjectID string // the person's, repository's or team's; TheHouse
	Sealed    []byte
	UpdatedAt time.Time
	UpdatedBy string
	By        string     // the name of who that is
	UsedAt    *time.Time // when something was last begun with it, within an hour
}

// Of is whose it is.
func (s Secret) Of() SecretsOf { return SecretsOf{s.Level, s.SubjectID} }

// SecretsOf names whose secrets are meant.
type SecretsOf struct {
	Level     secret.Level
	SubjectID string
}

// TheHouse is the subject of the house's secrets.
const TheHouse = "house"

// SecretsFor names whose secrets of some levels may reach the workspaces of a person
// in a repository.
func SecretsFor(person Person, repository string, levels []secret.Level) (of []SecretsOf) {
	for _, level := range levels {
		subjects := map[secret.Level][]string{secret.OfPerson: {person.ID}, secret.OfRepository: {repository}, secret.OfTeam: person.Teams(), secret.OfHouse: {TheHouse}}[level]
		for _, subject := range subjects {
			if subject != "" {
				of = append(of, SecretsOf{level, subject})
			}
		}
	}
	return of
}

// PutSecret sets a secret's value, form and whom it is given to. seal is
// called with the new version. repositories are those it is given to, by id,
// unless it is given everywhere.
func (tx secretsWrites) PutSecret(ctx context.Context, s Secret, repositories []string, seal func(version int) ([]byte, error)) (version int, err error) {
	if err := tx.db.QueryRowContext(ctx, "SELECT COALESCE(MAX(version), 0) + 1 FROM secrets WHERE level = ? AND subject_id = ? AND name = ?", s.Level, s.SubjectID, s.Name).Scan(&version); err != nil {
		return 0, err
	}
	sealed, err := seal(version)
	if err != nil {
		return 0, err
	}
	branches, err := json.Marshal(append([]string{}, s.Branches...))
	if err != nil {
		return 0, err
	}
	if err := tx.exec(ctx, `INSERT INTO secrets (level, subject_id, name, form, path, mode, owner, everywhere, prebuilds, branches, version, sealed, updated_at, updated_by) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (level, subject_id, name) DO UPDATE SET form = excluded.form, path = excluded.path, mode = excluded.mode, owner = excluded.owner, everywhere = excluded.everywhere, prebuilds = excluded.prebuilds, branches = excluded.branches,
		version = excluded.version, sealed = excluded.sealed, updated_at = excluded.updated_at, updated_by = excluded.updated_by`,
		s.Level, s.SubjectID, s.Name, s.Form, s.Path, s.Mode, s.Owner, s.Everywhere, s.Prebuilds, string(branches), version, sealed, micros(tx.now), s.UpdatedBy); err != nil {
		return 0, err
	}
	if err := tx.exec(ctx, "DELETE FROM secret_reach WHERE level = ? AND subject_id = ? AND name = ?", s.Level, s.SubjectID, s.Name); err != nil {
		return 0, err
	}
	for _, r := range repositories {
		if err := tx.exec(ctx, "INSERT OR IGNORE INTO secret_reach (level, subject_id, name, repository_id) VALUES (?, ?, ?, ?)", s.Level, s.SubjectID, s.Name, r); err != nil {
			return 0, err
		}
	}
	return version, nil
}

// DropSecret removes a secret; ErrNotFound when there is none.
func (tx secretsWrites) DropSecret(ctx context.Context, of SecretsOf, name string) error {
	if err := tx.exec(ctx, "DELETE FROM secret_reach WHERE level = ? AND subject_id = ? AND name = ?", of.Level, of.SubjectID, name); err != nil {
		return err
	}
	return tx.mustChange(ctx, "DELETE FROM secrets WHERE level = ? AND subject_id = ? AND name = ?", of.Level, of.SubjectID, name)
}

// SecretsUsed notes that something is begun with secrets. It is written once in an
// hour, so that terminals cost no write more.
func (tx secretsWrites) SecretsUsed(ctx context.Context, used []Secret) error {
	for _, s := range used {
		if s.UsedAt != nil && tx.now.Sub(*s.UsedAt) < time.Hour {
			continue
		}
		if err := tx.exec(ctx, "UPDATE secrets SET used_at = ? WHERE level = ? AND subject_id = ? AND name = ?", micros(tx.now), s.Level, s.SubjectID, s.Name); err != nil {
			return err
		}
	}
	return nil
}

// NoteShut notes an image that its registry shows to those alone who sign in, by its
// name without tag and digest.
func (tx secretsWrites) NoteShut(ctx context.Context, name string) error {
	return tx.exec(ctx, "INSERT INTO shut_images (name, at) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET at = excluded.at", name, micros(tx.now))
}

// IsShut tells whether an image was noted so.
func (q secretsReads) IsShut(ctx context.Context, name string) (bool, error) {
	var n int
	err := q.db.QueryRowContext(ctx, "SELECT COUNT(*) FROM shut_images WHERE name = ?", name).Scan(&n)
	return n > 0, err
}

// Secrets lists secrets by whose they are, sealed, by level and name.
func (q secretsReads) Secrets(ctx context.Context, of ...SecretsOf) ([]Secret, error) {
	if len(of) == 0 {
		return nil, nil
	}
	var where []string
	var args []any
	for _, o := range of {
		where, args = append(where, "(s.level = ? AND s.subject_id = ?)"), append(args, o.Level, o.SubjectID)
	}
	return list(ctx, q.reader, func(scan func(...any) error) (s Secret, err error) {
		var at int64
		var used sql.NullInt64
		var branches, repositories string
		if err = scan(&s.Level, &s.SubjectID, &s.Name, &s.Form, &s.Path, &s.Mode, &s.Owner, &s.Everywhere, &s.Prebuilds, &branches, &s.Version, &s.Sealed, &at, &s.UpdatedBy, &s.By, &used, &s.Whose, &repositories); err != nil {
			return s, err
		}
		s.UpdatedAt, s.UsedAt = fromMicros(at), fromNullMicros(used)
		if repositories != "" {
			s.Repositories = strings.Split(repositories, "\n")
		}
		return s, json.Unmarshal([]byte(branches), &s.Branches)
	}, `SELECT s.level, s.subject_id, s.name, s.form, s.path, s.mode, s.owner, s.everywhere, s.prebuilds, s.branches, s.version, s.sealed, s.updated_at, s.updated_by, COALESCE(p.name, ''), s.used_at, COALESCE(r.name, t.name, ''),
		COALESCE((SELECT group_concat(name, char(10)) FROM (SELECT x.name FROM secret_reach v JOIN repositories x ON x.id = v.repository_id WHERE v.level = s.level AND v.subject_id = s.subject_id AND v.name = s.name ORDER BY x.name)), '')
		FROM secrets s LEFT JOIN people p ON p.id = s.updated_by LEFT JOIN repositories r ON s.level = 'repository' AND r.id = s.subject_id LEFT JOIN teams t ON s.level = 'team' AND t.id = s.subject_id
		WHERE `+strings.Join(where, " OR ")+` ORDER BY s.level, s.subject_id, s.name`, args...)
}
