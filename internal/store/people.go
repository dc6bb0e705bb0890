package store

import (
	"cmp"
	"context"
	"database/sql"
	"time"

	"yardbench/internal/core/policy"
)

// Team is a group of people whose money and limits belong together.
type Team struct{ ID, Name string }

func scanTeam(scan func(...any) error) (t Team, err error) { return t, scan(&t.ID, &t.Name) }

// AddTeam adds a team.
func (tx *Tx) AddTeam(ctx context.Context, t Team) error {
	return tx.exec(ctx, "INSERT INTO teams (id, name, created_at) VALUES (?, ?, ?)", t.ID, t.Name, micros(tx.now))
}

// Teams lists the teams, by name.
func (q Q) Teams(ctx context.Context) ([]Team, error) {
	return list(ctx, q, scanTeam, "SELECT id, name FROM teams ORDER BY name")
}

// TeamByName finds a team.
func (q Q) TeamByName(ctx context.Context, name string) (Team, error) {
	return one(ctx, q, scanTeam, "SELECT id, name FROM teams WHERE name = ? COLLATE NOCASE", name)
}

// Person is somebody who may sign in.
type Person struct {
	ID, Name, FullName, Email string
	Role                      policy.Role
	TeamID, Team              string // the team's id and name; empty for none
	PasswordHash              string
	CreatedAt                 time.Time
	ClosedAt                  *time.Time // since when they may not sign in
}

const personQuery = `SELECT p.id, p.name, p.full_name, p.email, p.role, COALESCE(p.team_id, ''), COALESCE(t.name, ''), p.password_hash, p.created_at, p.closed_at
 FROM people p LEFT JOIN teams t ON t.id = p.team_id `

func scanPerson(scan func(...any) error) (p Person, err error) {
	var at int64
	var closed sql.NullInt64
	err = scan(&p.ID, &p.Name, &p.FullName, &p.Email, &p.Role, &p.TeamID, &p.Team, &p.PasswordHash, &at, &closed)
	p.CreatedAt, p.ClosedAt = fromMicros(at), fromNullMicros(closed)
	return p, err
}

// AddPerson adds a person.
func (tx *Tx) AddPerson(ctx context.Context, p Person) error {
	return tx.exec(ctx, "INSERT INTO people (id, name, full_name, email, role, team_id, password_hash, created_at) VALUES (?, ?, ?, ?, ?, NULLIF(?, ''), ?, ?)",
		p.ID, p.Name, p.FullName, p.Email, p.Role, p.TeamID, p.PasswordHash, micros(tx.now))
}

// ErasePerson puts a made-up name in the place of everything that is known of
// somebody, and drops what was theirs. The journal knows them by their id only
// and stays as it is.
func (tx *Tx) ErasePerson(ctx context.Context, id, name string) error {
	tx.cached()
	for _, q := range []string{
		"DELETE FROM tokens WHERE person_id = ?",
		"DELETE FROM enrolments WHERE person_id = ?",
		"DELETE FROM secrets WHERE level = 'person' AND subject_id = ?",
		"DELETE FROM secret_repositories WHERE person_id = ?",
		"DELETE FROM git_credentials WHERE person_id = ?",
	} {
		if err := tx.exec(ctx, q, id); err != nil {
			return err
		}
	}
	return tx.mustChange(ctx, "UPDATE people SET name = ?, full_name = ?, email = '', password_hash = '', closed_at = COALESCE(closed_at, ?) WHERE id = ?", name, "somebody who has left", micros(tx.now), id)
}

// SetRole gives somebody a role.
func (tx *Tx) SetRole(ctx context.Context, id string, role policy.Role) error {
	return tx.mustChange(ctx, "UPDATE people SET role = ? WHERE id = ?", role, id)
}

// SetTeam puts somebody into a team; "" is none.
func (tx *Tx) SetTeam(ctx context.Context, id, team string) error {
	return tx.mustChange(ctx, "UPDATE people SET team_id = NULLIF(?, '') WHERE id = ?", team, id)
}

// SetPassword sets what is kept of somebody's password.
func (tx *Tx) SetPassword(ctx context.Context, id, hash string) error {
	return tx.mustChange(ctx, "UPDATE people SET password_hash = ? WHERE id = ?", hash, id)
}

// CloseAccount closes somebody's account, and ends all they are signed in with,
// or opens it again.
func (tx *Tx) CloseAccount(ctx context.Context, id string, closed bool) error {
	if !closed {
		return tx.mustChange(ctx, "UPDATE people SET closed_at = NULL WHERE id = ?", id)
	}
	if err := tx.DropTokens(ctx, id); err != nil {
		return err
	}
	return tx.mustChange(ctx, "UPDATE people SET closed_at = COALESCE(closed_at, ?) WHERE id = ?", micros(tx.now), id)
}

// PersonByName finds a person by the name they sign in with.
func (q Q) PersonByName(ctx context.Context, name string) (Person, error) {
	return one(ctx, q, scanPerson, personQuery+"WHERE p.name = ?", name)
}

// PersonByID finds a person.
func (q Q) PersonByID(ctx context.Context, id string) (Person, error) {
	return one(ctx, q, scanPerson, personQuery+"WHERE p.id = ?", id)
}

// People lists everybody, by name; one team's unless team is empty.
func (q Q) People(ctx context.Context, team string) ([]Person, error) {
	return list(ctx, q, scanPerson, personQuery+"WHERE ? = '' OR p.team_id = ? ORDER BY p.name", team, team)
}

// Enrolment is a link by which somebody sets up their account, or a new
// password. Only a hash of what the link holds is kept.
type Enrolment struct {
	ID               string
	Hash             []byte
	Role             policy.Role
	TeamID, Team     string
	PersonID, Person string // set: a new password for them
	MadeBy           string
	ExpiresAt        time.Time
	UsedAt           *time.Time
}

const enrolmentQuery = `SELECT e.id, e.hash, e.role, COALESCE(e.team_id, ''), COALESCE(t.name, ''), COALESCE(e.person_id, ''), COALESCE(p.name, ''), e.made_by, e.expires_at, e.used_at
 FROM enrolments e LEFT JOIN teams t ON t.id = e.team_id LEFT JOIN people p ON p.id = e.person_id `

func scanEnrolment(scan func(...any) error) (e Enrolment, err error) {
	var expires int64
	var used sql.NullInt64
	err = scan(&e.ID, &e.Hash, &e.Role, &e.TeamID, &e.Team, &e.PersonID, &e.Person, &e.MadeBy, &expires, &used)
	e.ExpiresAt, e.UsedAt = fromMicros(expires), fromNullMicros(used)
	return e, err
}

// AddEnrolment adds a link and forgets those that have expired.
func (tx *Tx) AddEnrolment(ctx context.Context, e Enrolment) error {
	if err := tx.exec(ctx, "DELETE FROM enrolments WHERE expires_at < ?", micros(tx.now)); err != nil {
		return err
	}
	return tx.exec(ctx, "INSERT INTO enrolments (id, hash, role, team_id, person_id, made_by, created_at, expires_at) VALUES (?, ?, ?, NULLIF(?, ''), NULLIF(?, ''), ?, ?, ?)",
		e.ID, e.Hash, e.Role, e.TeamID, e.PersonID, e.MadeBy, micros(tx.now), micros(e.ExpiresAt))
}

// EnrolmentByHash finds a link that can still be used at now.
func (q Q) EnrolmentByHash(ctx context.Context, hash []byte, now time.Time) (Enrolment, error) {
	return one(ctx, q, scanEnrolment, enrolmentQuery+"WHERE e.hash = ? AND e.used_at IS NULL AND e.expires_at > ?", hash, micros(now))
}

// UseEnrolment marks a link as used.
func (tx *Tx) UseEnrolment(ctx context.Context, id string) error {
	return tx.mustChange(ctx, "UPDATE enrolments SET used_at = ? WHERE id = ? AND used_at IS NULL", micros(tx.now), id)
}

// Token is a sign-in, or a token with a name; only a hash of what the person
// holds is kept.
type Token struct {
	ID, PersonID string
	Hash         []byte
	Door         string // console, cli, or token
	Name         string // what its owner calls it, for a token
	CreatedAt    time.Time
	ExpiresAt    time.Time
	LastUsedAt   *time.Time
}

const tokenColumns = "id, person_id, hash, door, name, created_at, expires_at, last_used_at"

func scanToken(scan func(...any) error) (t Token, err error) {
	var created, expires int64
	var used sql.NullInt64
	err = scan(&t.ID, &t.PersonID, &t.Hash, &t.Door, &t.Name, &created, &expires, &used)
	t.CreatedAt, t.ExpiresAt, t.LastUsedAt = fromMicros(created), fromMicros(expires), fromNullMicros(used)
	return t, err
}

// AddToken adds a sign-in and forgets those of the person that have expired.
func (tx *Tx) AddToken(ctx context.Context, t Token) error {
	if err := tx.exec(ctx, "DELETE FROM tokens WHERE person_id = ? AND expires_at < ?", t.PersonID, micros(tx.now)); err != nil {
		return err
	}
	return tx.exec(ctx, "INSERT INTO tokens ("+tokenColumns+") VALUES (?, ?, ?, ?, ?, ?, ?, NULL)",
		t.ID, t.PersonID, t.Hash, t.Door, t.Name, micros(tx.now), micros(t.ExpiresAt))
}

// TokenByHash finds a sign-in that has not expired at now.
func (q Q) TokenByHash(ctx context.Context, hash []byte, now time.Time) (Token, error) {
	return one(ctx, q, scanToken, "SELECT "+tokenColumns+" FROM tokens WHERE hash = ? AND expires_at > ?", hash, micros(now))
}

// TokenByID finds a sign-in that has not expired at now.
func (q Q) TokenByID(ctx context.Context, id string, now time.Time) (Token, error) {
	return one(ctx, q, scanToken, "SELECT "+tokenColumns+" FROM tokens WHERE id = ? AND expires_at > ?", id, micros(now))
}

// Tokens lists a person's sign-ins that have not expired at now, newest first.
func (q Q) Tokens(ctx context.Context, person string, now time.Time) ([]Token, error) {
	return list(ctx, q, scanToken, "SELECT "+tokenColumns+" FROM tokens WHERE person_id = ? AND expires_at > ? ORDER BY created_at DESC", person, micros(now))
}

// UsedToken notes that a sign-in was used.
func (tx *Tx) UsedToken(ctx context.Context, id string) error {
	return tx.exec(ctx, "UPDATE tokens SET last_used_at = ? WHERE id = ?", micros(tx.now), id)
}

// DropToken ends a person's sign-in; ErrNotFound when they have none with the id.
func (tx *Tx) DropToken(ctx context.Context, person, id string) error {
	return tx.mustChange(ctx, "DELETE FROM tokens WHERE id = ? AND person_id = ?", id, person)
}

// DropTokens ends all of a person's sign-ins.
func (tx *Tx) DropTokens(ctx context.Context, person string) error {
	return tx.exec(ctx, "DELETE FROM tokens WHERE person_id = ?", person)
}

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
func (tx *Tx) PutGitCredential(ctx context.Context, s Sealed) error {
	tx.cached()
	return tx.exec(ctx, `INSERT INTO git_credentials (person_id, host, username, sealed, updated_at) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (person_id, host) DO UPDATE SET username = excluded.username, sealed = excluded.sealed, updated_at = excluded.updated_at`,
		s.PersonID, s.Name, s.Username, s.Sealed, micros(tx.now))
}

// GitCredential finds what a person signs in to a git host with.
func (q Q) GitCredential(ctx context.Context, person, host string) (Sealed, error) {
	all, err := cached(q, "git credential "+person+" "+host, func() ([]Sealed, error) {
		return list(ctx, q, scanSealed, "SELECT person_id, host, username, sealed, updated_at FROM git_credentials WHERE person_id = ? AND host = ?", person, host)
	})
	if err != nil || len(all) == 0 {
		return Sealed{}, cmp.Or(err, ErrNotFound)
	}
	return all[0], nil
}

// Repository is a registered repository.
type Repository struct {
	ID, Name, URL, DefaultBranch string
	CreatedAt                    time.Time
	PushKey                      []byte // sealed: what the git host signs with; empty for none
}

const repositoryColumns = "id, name, url, default_branch, created_at, push_key"

func scanRepository(scan func(...any) error) (r Repository, err error) {
	var at int64
	err = scan(&r.ID, &r.Name, &r.URL, &r.DefaultBranch, &at, &r.PushKey)
	r.CreatedAt = fromMicros(at)
	return r, err
}

// AddRepository registers a repository.
func (tx *Tx) AddRepository(ctx context.Context, r Repository) error {
	tx.cached()
	return tx.exec(ctx, "INSERT INTO repositories ("+repositoryColumns+") VALUES (?, ?, ?, ?, ?, x'')", r.ID, r.Name, r.URL, r.DefaultBranch, micros(tx.now))
}

// SetPushKey sets what a repository's git host signs with.
func (tx *Tx) SetPushKey(ctx context.Context, repository string, sealed []byte) error {
	tx.cached()
	return tx.mustChange(ctx, "UPDATE repositories SET push_key = ? WHERE id = ?", sealed, repository)
}

// RepositoriesByURL finds the repositories registered under an address.
func (q Q) RepositoriesByURL(ctx context.Context, url string) ([]Repository, error) {
	return list(ctx, q, scanRepository, "SELECT "+repositoryColumns+" FROM repositories WHERE url = ?", url)
}

// Repositories lists the registered repositories, by name.
func (q Q) Repositories(ctx context.Context) ([]Repository, error) {
	return list(ctx, q, scanRepository, "SELECT "+repositoryColumns+" FROM repositories ORDER BY name")
}

// RepositoryByName finds a repository.
func (q Q) RepositoryByName(ctx context.Context, name string) (Repository, error) {
	return cached(q, "repository name "+name, func() (Repository, error) {
		return one(ctx, q, scanRepository, "SELECT "+repositoryColumns+" FROM repositories WHERE name = ?", name)
	})
}

// RepositoryByID finds a repository.
func (q Q) RepositoryByID(ctx context.Context, id string) (Repository, error) {
	return cached(q, "repository id "+id, func() (Repository, error) {
		return one(ctx, q, scanRepository, "SELECT "+repositoryColumns+" FROM repositories WHERE id = ?", id)
	})
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
