package store

import (
	"context"
	"time"
)

type (
	repositoriesReads  struct{ reader }
	repositoriesWrites struct{ *txn }
)

// Repository is a registered repository.
type Repository struct {
	ID, Name, URL, DefaultBranch string
	CreatedAt                    time.Time
	PushKey                      []byte // sealed: what the git host signs with; empty for none
	// ReadUsername and ReadSealed are what its prebuilds sign in to the git host
	// with; empty for nothing.
	ReadUsername string
	ReadKey      string // the public half of a key for SSH, in place of a name
	ReadSealed   []byte
	TeamID, Team string // whose money its prebuilds are; empty for nobody's
	Removed      bool   // it is registered no more
}

const repositoryQuery = "SELECT r.id, r.name, r.url, r.default_branch, r.created_at, r.push_key, r.read_username, r.read_key, r.read_sealed, COALESCE(r.team_id, ''), COALESCE(t.name, ''), r.removed_at IS NOT NULL FROM repositories r LEFT JOIN teams t ON t.id = r.team_id "

func scanRepository(scan func(...any) error) (r Repository, err error) {
	var at int64
	err = scan(&r.ID, &r.Name, &r.URL, &r.DefaultBranch, &at, &r.PushKey, &r.ReadUsername, &r.ReadKey, &r.ReadSealed, &r.TeamID, &r.Team, &r.Removed)
	r.CreatedAt = fromMicros(at)
	return r, err
}

// AddRepository registers a repository.
func (tx repositoriesWrites) AddRepository(ctx context.Context, r Repository) error {
	tx.cached()
	return tx.exec(ctx, "INSERT INTO repositories (id, name, url, default_branch, created_at, push_key, team_id) VALUES (?, ?, ?, ?, ?, x'', NULLIF(?, ''))", r.ID, r.Name, r.URL, r.DefaultBranch, micros(tx.now), r.TeamID)
}

// SetReadCredential sets what a repository's prebuilds sign in with: by a name, or by
// the key whose public half it is; all empty for nothing.
func (tx repositoriesWrites) SetReadCredential(ctx context.Context, repository, username, key string, sealed []byte) error {
	tx.cached()
	return tx.mustChange(ctx, "UPDATE repositories SET read_username = ?, read_key = ?, read_sealed = ? WHERE id = ?", username, key, append([]byte{}, sealed...), repository)
}

// Reads tells whether a repository's prebuilds have something to sign in with.
func (r Repository) Reads() bool { return r.ReadUsername != "" || r.ReadKey != "" }

// SetPushKey sets what a repository's git host signs with.
func (tx repositoriesWrites) SetPushKey(ctx context.Context, repository string, sealed []byte) error {
	tx.cached()
	return tx.mustChange(ctx, "UPDATE repositories SET push_key = ? WHERE id = ?", sealed, repository)
}

// ChangeRepository writes a repository's address, default branch and team.
func (tx repositoriesWrites) ChangeRepository(ctx context.Context, r Repository) error {
	tx.cached()
	return tx.mustChange(ctx, "UPDATE repositories SET url = ?, default_branch = ?, team_id = NULLIF(?, '') WHERE id = ? AND removed_at IS NULL", r.URL, r.DefaultBranch, r.TeamID, r.ID)
}

// RemoveRepository has a repository registered no more, and drops its secrets and
// credentials. What was made of it stays in the records, under a name that nobody
// else's can be: the name is free again.
func (tx repositoriesWrites) RemoveRepository(ctx context.Context, id string) error {
	tx.cached()
	for _, q := range []string{
		"DELETE FROM secrets WHERE level = 'repository' AND subject_id = ?",
		"DELETE FROM secret_reach WHERE repository_id = ?",
	} {
		if err := tx.exec(ctx, q, id); err != nil {
			return err
		}
	}
	return tx.mustChange(ctx, "UPDATE repositories SET removed_at = ?, name = name || ', removed ' || substr(id, 1, 6), push_key = x'', read_username = '', read_key = '', read_sealed = x'' WHERE id = ? AND removed_at IS NULL", micros(tx.now), id)
}

// WorkspacesOfRepository counts the workspaces of a repository, and the prebuilds of it
// that are under way.
func (q repositoriesReads) WorkspacesOfRepository(ctx context.Context, id string) (n int, err error) {
	err = q.db.QueryRowContext(ctx, "SELECT COUNT(*) FROM workspaces WHERE repository_id = ? AND phase <> 'removed'", id).Scan(&n)
	return n, err
}

// RepositoriesByURL finds the repositories registered under an address.
func (q repositoriesReads) RepositoriesByURL(ctx context.Context, url string) ([]Repository, error) {
	return list(ctx, q.reader, scanRepository, repositoryQuery+"WHERE r.url = ? AND r.removed_at IS NULL", url)
}

// Repositories lists the registered repositories, by name.
func (q repositoriesReads) Repositories(ctx context.Context) ([]Repository, error) {
	return list(ctx, q.reader, scanRepository, repositoryQuery+"WHERE r.removed_at IS NULL ORDER BY r.name")
}

// RepositoryByName finds a repository.
func (q repositoriesReads) RepositoryByName(ctx context.Context, name string) (Repository, error) {
	return cached(q.reader, "repository name "+name, func() (Repository, error) {
		return one(ctx, q.reader, scanRepository, repositoryQuery+"WHERE r.name = ? AND r.removed_at IS NULL", name)
	})
}

// RepositoryByID finds a repository.
func (q repositoriesReads) RepositoryByID(ctx context.Context, id string) (Repository, error) {
	return cached(q.reader, "repository id "+id, func() (Repository, error) {
		return one(ctx, q.reader, scanRepository, repositoryQuery+"WHERE r.id = ?", id)
	})
}
