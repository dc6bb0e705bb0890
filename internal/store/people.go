package store

import (
	"context"
	"time"
)

// Person is somebody who may sign in.
type Person struct {
	ID, Name, FullName, Email, Role string
	PasswordHash                    string
	CreatedAt                       time.Time
}

const personColumns = "id, name, full_name, email, role, password_hash, created_at"

func scanPerson(scan func(...any) error) (p Person, err error) {
	var at int64
	err = scan(&p.ID, &p.Name, &p.FullName, &p.Email, &p.Role, &p.PasswordHash, &at)
	p.CreatedAt = fromMicros(at)
	return p, err
}

// AddPerson adds a person.
func (tx *Tx) AddPerson(ctx context.Context, p Person) error {
	return tx.exec(ctx, "INSERT INTO people ("+personColumns+") VALUES (?, ?, ?, ?, ?, ?, ?)",
		p.ID, p.Name, p.FullName, p.Email, p.Role, p.PasswordHash, micros(tx.now))
}

// PersonByName finds a person by the name they sign in with.
func (q Q) PersonByName(ctx context.Context, name string) (Person, error) {
	return one(ctx, q, scanPerson, "SELECT "+personColumns+" FROM people WHERE name = ?", name)
}

// PersonByID finds a person.
func (q Q) PersonByID(ctx context.Context, id string) (Person, error) {
	return one(ctx, q, scanPerson, "SELECT "+personColumns+" FROM people WHERE id = ?", id)
}

// People lists everybody, by name.
func (q Q) People(ctx context.Context) ([]Person, error) {
	return list(ctx, q, scanPerson, "SELECT "+personColumns+" FROM people ORDER BY name")
}

// Token is a sign-in; only a hash of what the person holds is kept.
type Token struct {
	ID, PersonID string
	Hash         []byte
	Door         string // console or cli
	ExpiresAt    time.Time
}

// AddToken adds a sign-in and forgets those of the person that have expired.
func (tx *Tx) AddToken(ctx context.Context, t Token) error {
	if err := tx.exec(ctx, "DELETE FROM tokens WHERE person_id = ? AND expires_at < ?", t.PersonID, micros(tx.now)); err != nil {
		return err
	}
	return tx.exec(ctx, "INSERT INTO tokens (id, person_id, hash, door, created_at, expires_at) VALUES (?, ?, ?, ?, ?, ?)",
		t.ID, t.PersonID, t.Hash, t.Door, micros(tx.now), micros(t.ExpiresAt))
}

// TokenByHash finds a sign-in that has not expired at now.
func (q Q) TokenByHash(ctx context.Context, hash []byte, now time.Time) (Token, error) {
	return one(ctx, q, func(scan func(...any) error) (t Token, err error) {
		var at int64
		err = scan(&t.ID, &t.PersonID, &t.Hash, &t.Door, &at)
		t.ExpiresAt = fromMicros(at)
		return t, err
	}, "SELECT id, person_id, hash, door, expires_at FROM tokens WHERE hash = ? AND expires_at > ?", hash, micros(now))
}

// DropToken ends a sign-in.
func (tx *Tx) DropToken(ctx context.Context, id string) error {
	return tx.exec(ctx, "DELETE FROM tokens WHERE id = ?", id)
}

// Sealed is an encrypted value with what it is bound to.
type Sealed struct {
	PersonID  string
	Name      string // the secret's name, or the git host
	Username  string // for a git credential
	Version   int
	Sealed    []byte
	UpdatedAt time.Time
}

func scanSealed(scan func(...any) error) (s Sealed, err error) {
	var at int64
	err = scan(&s.PersonID, &s.Name, &s.Username, &s.Version, &s.Sealed, &at)
	s.UpdatedAt = fromMicros(at)
	return s, err
}

// PutSecret sets a person's secret. seal is called with the new version.
func (tx *Tx) PutSecret(ctx context.Context, person, name string, seal func(version int) ([]byte, error)) (version int, err error) {
	if err := tx.db.QueryRowContext(ctx, "SELECT COALESCE(MAX(version), 0) + 1 FROM secrets WHERE person_id = ? AND name = ?", person, name).Scan(&version); err != nil {
		return 0, err
	}
	sealed, err := seal(version)
	if err != nil {
		return 0, err
	}
	return version, tx.exec(ctx, `INSERT INTO secrets (person_id, name, version, sealed, updated_at) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (person_id, name) DO UPDATE SET version = excluded.version, sealed = excluded.sealed, updated_at = excluded.updated_at`,
		person, name, version, sealed, micros(tx.now))
}

// DropSecret removes a person's secret; ErrNotFound when there is none.
func (tx *Tx) DropSecret(ctx context.Context, person, name string) error {
	return tx.mustChange(ctx, "DELETE FROM secrets WHERE person_id = ? AND name = ?", person, name)
}

// Secrets lists a person's secrets, sealed, by name.
func (q Q) Secrets(ctx context.Context, person string) ([]Sealed, error) {
	return list(ctx, q, scanSealed, "SELECT person_id, name, '', version, sealed, updated_at FROM secrets WHERE person_id = ? ORDER BY name", person)
}

// PutGitCredential sets what a person signs in to a git host with.
func (tx *Tx) PutGitCredential(ctx context.Context, s Sealed) error {
	return tx.exec(ctx, `INSERT INTO git_credentials (person_id, host, username, sealed, updated_at) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (person_id, host) DO UPDATE SET username = excluded.username, sealed = excluded.sealed, updated_at = excluded.updated_at`,
		s.PersonID, s.Name, s.Username, s.Sealed, micros(tx.now))
}

// GitCredential finds what a person signs in to a git host with.
func (q Q) GitCredential(ctx context.Context, person, host string) (Sealed, error) {
	return one(ctx, q, scanSealed, "SELECT person_id, host, username, 0, sealed, updated_at FROM git_credentials WHERE person_id = ? AND host = ?", person, host)
}

// Repository is a registered repository.
type Repository struct {
	ID, Name, URL, DefaultBranch string
	CreatedAt                    time.Time
}

const repositoryColumns = "id, name, url, default_branch, created_at"

func scanRepository(scan func(...any) error) (r Repository, err error) {
	var at int64
	err = scan(&r.ID, &r.Name, &r.URL, &r.DefaultBranch, &at)
	r.CreatedAt = fromMicros(at)
	return r, err
}

// AddRepository registers a repository.
func (tx *Tx) AddRepository(ctx context.Context, r Repository) error {
	return tx.exec(ctx, "INSERT INTO repositories ("+repositoryColumns+") VALUES (?, ?, ?, ?, ?)", r.ID, r.Name, r.URL, r.DefaultBranch, micros(tx.now))
}

// Repositories lists the registered repositories, by name.
func (q Q) Repositories(ctx context.Context) ([]Repository, error) {
	return list(ctx, q, scanRepository, "SELECT "+repositoryColumns+" FROM repositories ORDER BY name")
}

// RepositoryByName finds a repository.
func (q Q) RepositoryByName(ctx context.Context, name string) (Repository, error) {
	return one(ctx, q, scanRepository, "SELECT "+repositoryColumns+" FROM repositories WHERE name = ?", name)
}

// RepositoryByID finds a repository.
func (q Q) RepositoryByID(ctx context.Context, id string) (Repository, error) {
	return one(ctx, q, scanRepository, "SELECT "+repositoryColumns+" FROM repositories WHERE id = ?", id)
}

// mustChange runs a statement that has to touch a row; ErrNotFound otherwise.
func (q Q) mustChange(ctx context.Context, query string, args ...any) error {
	res, err := q.db.ExecContext(ctx, query, args...)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return ErrNotFound
}
