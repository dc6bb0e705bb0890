package store

import (
	"context"
	"database/sql"
	"time"
)

type (
	linksReads  struct{ reader }
	linksWrites struct{ *txn }
)

// LaunchLink is a prepared choice behind one short address.
type LaunchLink struct {
	ID, Title    string
	Choice       []byte // a wire.Prepares, JSON
	RepositoryID string
	TeamID, Team string // whose people may use it; "" is whoever signs in
	PeopleMost   int    // 0 is no bound
	Until        *time.Time
	PausedAt     *time.Time
	MadeBy       Person // its id, name and team
	CreatedAt    time.Time
	Used         int // by so many people
	// GuestFor is how long guests have access who set up their accounts by it; 0 is that
	// none can. Guests is how many have.
	GuestFor time.Duration
	Guests   int
}

// LinkUse is somebody who came by a launch link.
type LinkUse struct {
	Person, Workspace string // names
	WorkspaceID       string
	Phase             string
	At                time.Time
}

const linkQuery = `SELECT l.id, l.title, l.choice, l.repository_id, COALESCE(l.team_id, ''), COALESCE(t.name, ''), l.people_most, l.until_at, l.paused_at, p.id, p.name, COALESCE(p.team_id, ''), l.created_at, l.guest_s, l.guests,
 (SELECT count(*) FROM launch_link_uses u WHERE u.link_id = l.id)
 FROM launch_links l JOIN people p ON p.id = l.made_by LEFT JOIN teams t ON t.id = l.team_id `

func scanLink(scan func(...any) error) (l LaunchLink, err error) {
	var until, paused sql.NullInt64
	var at, guest int64
	var choice string
	err = scan(&l.ID, &l.Title, &choice, &l.RepositoryID, &l.TeamID, &l.Team, &l.PeopleMost, &until, &paused, &l.MadeBy.ID, &l.MadeBy.Name, &l.MadeBy.TeamID, &at, &guest, &l.Guests, &l.Used)
	l.GuestFor = time.Duration(guest) * time.Second
	l.Choice, l.Until, l.PausedAt, l.CreatedAt = []byte(choice), fromNullMicros(until), fromNullMicros(paused), fromMicros(at)
	return l, err
}

func nullMicros(t *time.Time) sql.NullInt64 {
	if t == nil {
		return sql.NullInt64{}
	}
	return sql.NullInt64{Int64: micros(*t), Valid: true}
}

// PutLaunchLink adds a launch link, or writes what can be changed of one.
func (tx linksWrites) PutLaunchLink(ctx context.Context, l LaunchLink) error {
	return tx.exec(ctx, `INSERT INTO launch_links (id, title, choice, repository_id, team_id, people_most, until_at, paused_at, made_by, created_at, guest_s) VALUES (?, ?, ?, ?, NULLIF(?, ''), ?, ?, ?, ?, ?, ?)
		ON CONFLICT (id) DO UPDATE SET title = excluded.title, team_id = excluded.team_id, people_most = excluded.people_most, until_at = excluded.until_at, paused_at = excluded.paused_at`,
		l.ID, l.Title, string(l.Choice), l.RepositoryID, l.TeamID, l.PeopleMost, nullMicros(l.Until), nullMicros(l.PausedAt), l.MadeBy.ID, micros(tx.now), int64(l.GuestFor/time.Second))
}

// GuestByLink counts a guest who sets up their account by a launch link; [ErrNotFound]
// where as many have as may.
func (tx linksWrites) GuestByLink(ctx context.Context, id string) error {
	return tx.mustChange(ctx, "UPDATE launch_links SET guests = guests + 1 WHERE id = ? AND guest_s > 0 AND guests < people_most", id)
}

// DropLaunchLink removes one; the workspaces that came of it stay.
func (tx linksWrites) DropLaunchLink(ctx context.Context, id string) error {
	if err := tx.exec(ctx, "DELETE FROM launch_link_uses WHERE link_id = ?", id); err != nil {
		return err
	}
	return tx.mustChange(ctx, "DELETE FROM launch_links WHERE id = ?", id)
}

// LaunchLinks lists those that people of a scope have made, the newest first.
func (q linksReads) LaunchLinks(ctx context.Context, s Scope) ([]LaunchLink, error) {
	where, args := "", []any{}
	if !s.Whole() {
		where, args = "WHERE l.made_by IN (SELECT ? UNION SELECT id FROM people WHERE team_id IN (SELECT value FROM json_each(?))) ", []any{s.OwnerID, s.teams()}
	}
	return list(ctx, q.reader, scanLink, linkQuery+where+"ORDER BY l.created_at DESC, l.id", args...)
}

// LaunchLinkByID finds one.
func (q linksReads) LaunchLinkByID(ctx context.Context, id string) (LaunchLink, error) {
	return one(ctx, q.reader, scanLink, linkQuery+"WHERE l.id = ?", id)
}

const useQuery = `SELECT p.name, w.name, w.id, w.phase, u.at FROM launch_link_uses u JOIN people p ON p.id = u.person_id JOIN workspaces w ON w.id = u.workspace_id WHERE u.link_id = ? `

func scanUse(scan func(...any) error) (u LinkUse, err error) {
	var at int64
	err = scan(&u.Person, &u.Workspace, &u.WorkspaceID, &u.Phase, &at)
	u.At = fromMicros(at)
	return u, err
}

// LinkUses lists who came by a launch link, the newest first.
func (q linksReads) LinkUses(ctx context.Context, id string) ([]LinkUse, error) {
	return list(ctx, q.reader, scanUse, useQuery+"ORDER BY u.at DESC, p.name", id)
}

// LinkUseOf is what somebody has by a launch link.
func (q linksReads) LinkUseOf(ctx context.Context, id, person string) (LinkUse, error) {
	return one(ctx, q.reader, scanUse, useQuery+"AND u.person_id = ?", id, person)
}

// UseLaunchLink notes which workspace somebody has by a launch link.
func (tx linksWrites) UseLaunchLink(ctx context.Context, id, person, workspace string) error {
	return tx.exec(ctx, "INSERT INTO launch_link_uses (link_id, person_id, workspace_id, at) VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET workspace_id = excluded.workspace_id, at = excluded.at", id, person, workspace, micros(tx.now))
}
