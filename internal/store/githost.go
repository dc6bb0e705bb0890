package store

import (
	"cmp"
	"context"
	"time"
)

// GitHost is a git host that people let this service in at as them.
type GitHost struct {
	Host, Title          string
	Authorize, Token     string
	Device, Revoke       string
	Repositories, Member string
	Client               string
	Secret               []byte // sealed
	Scopes, Username     string
	MadeBy               string
	CreatedAt            time.Time
}

const gitHostColumns = "host, title, authorize, token, device, revoke, repositories, member, client, secret, scopes, username, made_by, created_at"

func scanGitHost(scan func(...any) error) (h GitHost, err error) {
	var at int64
	err = scan(&h.Host, &h.Title, &h.Authorize, &h.Token, &h.Device, &h.Revoke, &h.Repositories, &h.Member, &h.Client, &h.Secret, &h.Scopes, &h.Username, &h.MadeBy, &at)
	h.CreatedAt = fromMicros(at)
	return h, err
}

// GitHosts lists them, by their names.
func (q gitKeysReads) GitHosts(ctx context.Context) ([]GitHost, error) {
	return list(ctx, q.reader, scanGitHost, "SELECT "+gitHostColumns+" FROM git_hosts ORDER BY host")
}

// GitHost finds one.
func (q gitKeysReads) GitHost(ctx context.Context, host string) (GitHost, error) {
	all, err := cached(q.reader, "git host "+host, func() ([]GitHost, error) {
		return list(ctx, q.reader, scanGitHost, "SELECT "+gitHostColumns+" FROM git_hosts WHERE host = ?", host)
	})
	if err != nil || len(all) == 0 {
		return GitHost{}, cmp.Or(err, ErrNotFound)
	}
	return all[0], nil
}

// PutGitHost adds one, or writes it anew.
func (tx gitKeysWrites) PutGitHost(ctx context.Context, h GitHost) error {
	tx.cached()
	return tx.exec(ctx, "INSERT INTO git_hosts ("+gitHostColumns+") VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (host) DO UPDATE SET title = excluded.title, authorize = excluded.authorize, token = excluded.token, device = excluded.device, revoke = excluded.revoke, repositories = excluded.repositories, member = excluded.member, client = excluded.client, secret = excluded.secret, scopes = excluded.scopes, username = excluded.username",
		h.Host, h.Title, h.Authorize, h.Token, h.Device, h.Revoke, h.Repositories, h.Member, h.Client, append([]byte{}, h.Secret...), h.Scopes, h.Username, h.MadeBy, micros(h.CreatedAt))
}

// DropGitHost removes one, with what people lent there.
func (tx gitKeysWrites) DropGitHost(ctx context.Context, host string) error {
	tx.cached()
	if err := tx.exec(ctx, "DELETE FROM git_credentials WHERE host = ? AND lent = 1", host); err != nil {
		return err
	}
	return tx.mustChange(ctx, "DELETE FROM git_hosts WHERE host = ?", host)
}

// LentAt lists what people lent at a host, sealed.
func (q gitKeysReads) LentAt(ctx context.Context, host string) ([]Sealed, error) {
	return list(ctx, q.reader, scanSealed, "SELECT "+sealedColumns+" FROM git_credentials c WHERE host = ? AND lent = 1", host)
}

// LentByLeft lists what those have lent who may not sign in any more.
func (q gitKeysReads) LentByLeft(ctx context.Context, now time.Time) ([]Sealed, error) {
	return list(ctx, q.reader, scanSealed, "SELECT "+sealedColumns+" FROM git_hosts h JOIN git_credentials c ON c.host = h.host AND c.lent = 1 JOIN people p ON p.id = c.person_id LEFT JOIN guests g ON g.person_id = p.id WHERE p.closed_at IS NOT NULL OR g.until <= ?", micros(now))
}

// TakenBack notes that a host knows nothing any more of what somebody lent, where it is
// still the same.
func (tx gitKeysWrites) TakenBack(ctx context.Context, was Sealed) error {
	tx.cached()
	return tx.exec(ctx, "UPDATE git_credentials SET taken_back = ? WHERE person_id = ? AND host = ? AND lent = 1 AND updated_at = ?", micros(tx.now), was.PersonID, was.Name, micros(was.UpdatedAt))
}
