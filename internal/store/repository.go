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
	ReadSealed   []byte
	TeamID, Team string // whose money its prebuilds are; empty for nobody's
}

const repositoryQuery = "SELECT r.id, r.name, r.url, r.default_branch, r.created_at, r.push_key, r.read_username, r.read_sealed, COALESCE(r.team_id, ''), COALESCE(t.name, '') FROM repositories r LEFT JOIN teams t ON t.id = r.team_id "

func scanRepository(scan func(...any) error) (r Repository, err error) {
	var at int64
	err = scan(&r.ID, &r.Name, &r.URL, &r.DefaultBranch, &at, &r.PushKey, &r.ReadUsername, &r.ReadSealed, &r.TeamID, &r.Team)
	r.CreatedAt = fromMicros(at)
	return r, err
}

// AddRepository registers a repository.
func (tx repositoriesWrites) AddRepository(ctx context.Context, r Repository) error {
	tx.cached()
	return tx.exec(ctx, "INSERT INTO repositories (id, name, url, default_branch, created_at, push_key, team_id) VALUES (?, ?, ?, ?, ?, x'', NULLIF(?, ''))", r.ID, r.Name, r.URL, r.DefaultBranch, micros(tx.now), r.TeamID)
}

// SetReadCredential sets what a repository's prebuilds sign in with; both empty
// for nothing.
func (tx repositoriesWrites) SetReadCredential(ctx context.Context, repository, username string, sealed []byte) error {
	tx.cached()
	return tx.mustChange(ctx, "UPDATE repositories SET read_username = ?, read_sealed = ? WHERE id = ?", username, append([]byte{}, sealed...), repository)
}

// SetPushKey sets what a repository's git host signs with.
func (tx repositoriesWrites) SetPushKey(ctx context.Context, repository string, sealed []byte) error {
	tx.cached()
	return tx.mustChange(ctx, "UPDATE repositories SET push_key = ? WHERE id = ?", sealed, repository)
}

// SetRepositoryTeam gives a repository to a team; "" is nobody's.
func (tx repositoriesWrites) SetRepositoryTeam(ctx context.Context, repository, team string) error {
	tx.cached()
	return tx.mustChange(ctx, "UPDATE repositories SET team_id = NULLIF(?, '') WHERE id = ?", team, repository)
}

// RepositoriesByURL finds the repositories registered under an address.
func (q repositoriesReads) RepositoriesByURL(ctx context.Context, url string) ([]Repository, error) {
	return list(ctx, q.reader, scanRepository, repositoryQuery+"WHERE r.url = ?", url)
}

// Repositories lists the registered repositories, by name.
func (q repositoriesReads) Repositories(ctx context.Context) ([]Repository, error) {
	return list(ctx, q.reader, scanRepository, repositoryQuery+"ORDER BY r.name")
}

// RepositoryByName finds a repository.
func (q repositoriesReads) RepositoryByName(ctx context.Context, name string) (Repository, error) {
	return cached(q.reader, "repository name "+name, func() (Repository, error) {
		return one(ctx, q.reader, scanRepository, repositoryQuery+"WHERE r.name = ?", name)
	})
}

// RepositoryByID finds a repository.
func (q repositoriesReads) RepositoryByID(ctx context.Context, id string) (Repository, error) {
	return cached(q.reader, "repository id "+id, func() (Repository, error) {
		return one(ctx, q.reader, scanRepository, repositoryQuery+"WHERE r.id = ?", id)
	})
}
