package store

import (
	"context"
	"time"
)

type teamsWrites struct{ *txn }

// Team is a group of people whose money and limits belong together.
type Team struct{ ID, Name string }

func scanTeam(scan func(...any) error) (t Team, err error) { return t, scan(&t.ID, &t.Name) }

// AddTeam adds a team; one of that name that was removed comes back, with the id it had.
func (tx teamsWrites) AddTeam(ctx context.Context, t Team) error {
	return tx.exec(ctx, "INSERT INTO teams (id, name, created_at) VALUES (?, ?, ?) ON CONFLICT (name) DO UPDATE SET removed_at = NULL", t.ID, t.Name, micros(tx.now))
}

// RenameTeam gives a team another name.
func (tx teamsWrites) RenameTeam(ctx context.Context, id, name string) error {
	tx.touchAll()
	tx.cached() // repositories tell whose they are
	return tx.mustChange(ctx, "UPDATE teams SET name = ? WHERE id = ? AND removed_at IS NULL", name, id)
}

// RemoveTeam removes a team; what was spent under it keeps its name.
func (tx teamsWrites) RemoveTeam(ctx context.Context, id string) error {
	return tx.mustChange(ctx, "UPDATE teams SET removed_at = ? WHERE id = ? AND removed_at IS NULL", micros(tx.now), id)
}

// TeamHas counts what a team has: people whose accounts are open, in it or beside their
// own, repositories, launch links, enrolment links that can be used, secrets.
type TeamHas struct{ People, Repositories, Links, Enrolments, Secrets int }

// TeamHas counts what a team has at a time.
func (q peopleReads) TeamHas(ctx context.Context, id string, at time.Time) (TeamHas, error) {
	return one(ctx, q.reader, func(scan func(...any) error) (h TeamHas, err error) {
		return h, scan(&h.People, &h.Repositories, &h.Links, &h.Enrolments, &h.Secrets)
	}, `SELECT (SELECT count(*) FROM people p WHERE p.closed_at IS NULL AND (p.team_id = ?1 OR EXISTS (SELECT 1 FROM memberships m WHERE m.person_id = p.id AND m.team_id = ?1))),
		(SELECT count(*) FROM repositories WHERE team_id = ?1 AND removed_at IS NULL), (SELECT count(*) FROM launch_links WHERE team_id = ?1),
		(SELECT count(*) FROM enrolments WHERE team_id = ?1 AND used_at IS NULL AND expires_at > ?2), (SELECT count(*) FROM secrets WHERE level = 'team' AND subject_id = ?1)`, id, micros(at))
}

// Teams lists the teams, by name.
func (q peopleReads) Teams(ctx context.Context) ([]Team, error) {
	return list(ctx, q.reader, scanTeam, "SELECT id, name FROM teams WHERE removed_at IS NULL ORDER BY name")
}

// TeamByName finds a team.
func (q peopleReads) TeamByName(ctx context.Context, name string) (Team, error) {
	return one(ctx, q.reader, scanTeam, "SELECT id, name FROM teams WHERE name = ? COLLATE NOCASE AND removed_at IS NULL", name)
}
