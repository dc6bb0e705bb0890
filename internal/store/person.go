package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"yardbench/internal/core/policy"
)

type (
	peopleReads  struct{ reader }
	peopleWrites struct{ *txn }
)

// Person is somebody who may sign in.
type Person struct {
	ID, Name, FullName, Email string
	Role                      policy.Role
	TeamID, Team              string // the team's id and name; empty for none
	PasswordHash              string
	CreatedAt                 time.Time
	ClosedAt                  *time.Time // since when they may not sign in
	Program                   bool       // it is no person, but belongs to a team; nobody signs in with it
	Guest                     *Guest     // what their access is for, where it ends by itself
	Also                      []Membership
}

// Membership is a team that somebody is in beside their own, which their workspaces are
// counted with.
type Membership struct {
	TeamID string `json:"id"`
	Team   string `json:"team"`
	Leads  bool   `json:"leads"`
}

// Teams lists the ids of all teams that somebody is in, their own first.
func (p Person) Teams() (ids []string) {
	if p.TeamID != "" {
		ids = append(ids, p.TeamID)
	}
	for _, m := range p.Also {
		ids = append(ids, m.TeamID)
	}
	return ids
}

// TeamNames are the names of the same.
func (p Person) TeamNames() (names []string) {
	if p.Team != "" {
		names = append(names, p.Team)
	}
	for _, m := range p.Also {
		names = append(names, m.Team)
	}
	return names
}

// RoleIn is what somebody is in a team of theirs: their role in their own one, and what
// was said of another. Whoever looks after the house does so in each.
func (p Person) RoleIn(team string) policy.Role {
	if team == p.TeamID || p.Role == policy.Operator {
		return p.Role
	}
	if slices.ContainsFunc(p.Also, func(m Membership) bool { return m.TeamID == team && m.Leads }) {
		return policy.Lead
	}
	return policy.Developer
}

// LeadsAnother tells whether somebody leads a team that is not their own.
func (p Person) LeadsAnother() bool {
	return slices.ContainsFunc(p.Also, func(m Membership) bool { return m.Leads })
}

// What scanPerson reads of a person p, and from where the rest of it comes.
const (
	personColumns = `p.id, p.name, p.full_name, p.email, p.role, COALESCE(p.team_id, ''), COALESCE(t.name, ''), p.password_hash, p.created_at, p.closed_at, p.program,
 g.until, COALESCE(g.repositories, ''), COALESCE(g.sizes, ''), COALESCE(g.by_id, ''),
 (SELECT json_group_array(json_object('id', a.id, 'team', a.name, 'leads', json(iif(m.leads, 'true', 'false'))) ORDER BY a.name) FROM memberships m JOIN teams a ON a.id = m.team_id WHERE m.person_id = p.id)`
	personJoins = ` LEFT JOIN teams t ON t.id = p.team_id LEFT JOIN guests g ON g.person_id = p.id `
	personQuery = "SELECT " + personColumns + " FROM people p" + personJoins
)

func scanPerson(scan func(...any) error) (p Person, err error) {
	var at int64
	var closed, until sql.NullInt64
	var repositories, sizes, also string
	var g Guest
	if err = scan(&p.ID, &p.Name, &p.FullName, &p.Email, &p.Role, &p.TeamID, &p.Team, &p.PasswordHash, &at, &closed, &p.Program, &until, &repositories, &sizes, &g.By, &also); err != nil {
		return p, err
	}
	p.CreatedAt, p.ClosedAt = fromMicros(at), fromNullMicros(closed)
	if also != "[]" {
		if err := json.Unmarshal([]byte(also), &p.Also); err != nil {
			return p, err
		}
	}
	if until.Valid {
		g.Until = fromMicros(until.Int64)
		p.Role, p.Guest = policy.Guest, &g
		err = errors.Join(json.Unmarshal([]byte(repositories), &g.Repositories), json.Unmarshal([]byte(sizes), &g.Sizes))
	}
	return p, err
}

// Left tells whether somebody's account is closed, or a guest's access over.
func (p Person) Left(now time.Time) bool {
	return p.ClosedAt != nil || p.Guest != nil && !now.Before(p.Guest.Until)
}

// AddPerson adds a person.
func (tx peopleWrites) AddPerson(ctx context.Context, p Person) error {
	return tx.exec(ctx, "INSERT INTO people (id, name, full_name, email, role, team_id, password_hash, created_at, program) VALUES (?, ?, ?, ?, ?, NULLIF(?, ''), ?, ?, ?)",
		p.ID, p.Name, p.FullName, p.Email, p.Role, p.TeamID, p.PasswordHash, micros(tx.now), p.Program)
}

// ErasePerson puts a made-up name in the place of everything that is known of
// somebody, and drops what was theirs. The journal knows them by their id only
// and stays as it is.
func (tx peopleWrites) ErasePerson(ctx context.Context, id, name string) error {
	tx.touchAll()
	tx.cached()
	tx.shift(id)
	for _, q := range []string{
		"DELETE FROM tokens WHERE person_id = ?",
		"DELETE FROM enrolments WHERE person_id = ?",
		"DELETE FROM secrets WHERE level = 'person' AND subject_id = ?",
		"DELETE FROM secret_reach WHERE level = 'person' AND subject_id = ?",
		"DELETE FROM git_credentials WHERE person_id = ? AND lent = 0", // what was lent is taken back at its host first
		"DELETE FROM git_keys WHERE person_id = ?",
		"DELETE FROM passkeys WHERE person_id = ?",
		"DELETE FROM asked WHERE person_id = ?",
		"DELETE FROM looks WHERE person_id = ?",
		"DELETE FROM kept WHERE person_id = ?",
		"DELETE FROM identities WHERE person_id = ?",
		"DELETE FROM profiles WHERE person_id = ?",
		"DELETE FROM luggage WHERE person_id = ?",
		"DELETE FROM guests WHERE person_id = ?",
		"DELETE FROM memberships WHERE person_id = ?",
		"DELETE FROM directory_members WHERE person_id = ?",
		"DELETE FROM directory_accounts WHERE person_id = ?",
		"DELETE FROM launch_link_uses WHERE person_id = ?",
		"DELETE FROM launch_link_uses WHERE link_id IN (SELECT id FROM launch_links WHERE made_by = ?)",
		"DELETE FROM launch_links WHERE made_by = ?",
		"UPDATE recordings SET ended_at = 0 WHERE owner_id = ? AND ended_at IS NOT NULL", // what is so old is removed, with its file
	} {
		if err := tx.exec(ctx, q, id); err != nil {
			return err
		}
	}
	if err := tx.exec(ctx, "UPDATE outcomes SET name = substr(name, 1, instr(name, '.')) || ? WHERE workspace_id IN (SELECT id FROM workspaces WHERE owner_id = ?)", name, id); err != nil {
		return err
	}
	return tx.mustChange(ctx, "UPDATE people SET name = ?, full_name = ?, email = '', password_hash = '', closed_at = COALESCE(closed_at, ?) WHERE id = ?", name, "somebody who has left", micros(tx.now), id)
}

// SetRole gives somebody a role.
func (tx peopleWrites) SetRole(ctx context.Context, id string, role policy.Role) error {
	tx.shift(id)
	if role != policy.Operator { // who may not bring people in has brought nobody in
		if err := tx.dropEnrolmentsBy(ctx, id); err != nil {
			return err
		}
	}
	tx.touchAll()
	if err := tx.exec(ctx, "DELETE FROM guests WHERE person_id = ?", id); err != nil { // who has a role of their own is no guest
		return err
	}
	if role == policy.Auditor { // who looks after nobody is in no team beside their own
		if err := tx.SetAlso(ctx, id, nil); err != nil {
			return err
		}
	}
	return tx.mustChange(ctx, "UPDATE people SET role = ? WHERE id = ?", role, id)
}

// SetAlso says which teams somebody is in beside their own.
func (tx peopleWrites) SetAlso(ctx context.Context, id string, also []Membership) error {
	tx.touchAll()
	tx.shift(id)
	if err := tx.exec(ctx, "DELETE FROM memberships WHERE person_id = ?", id); err != nil {
		return err
	}
	for _, m := range also {
		if err := tx.exec(ctx, "INSERT INTO memberships (person_id, team_id, leads) VALUES (?, ?, ?)", id, m.TeamID, m.Leads); err != nil {
			return err
		}
	}
	return notTwice(ctx, tx.txn, id)
}

// SetTeam puts somebody into a team; "" is none.
func (tx peopleWrites) SetTeam(ctx context.Context, id, team string) error {
	tx.touchAll()
	tx.shift(id)
	if err := tx.mustChange(ctx, "UPDATE people SET team_id = NULLIF(?, '') WHERE id = ?", team, id); err != nil {
		return err
	}
	return notTwice(ctx, tx.txn, id)
}

// notTwice has nobody in their own team once more beside it.
func notTwice(ctx context.Context, tx *txn, id string) error {
	return tx.exec(ctx, "DELETE FROM memberships WHERE person_id = ? AND team_id = (SELECT team_id FROM people WHERE id = ?)", id, id)
}

// SetPassword sets what is kept of somebody's password.
func (tx peopleWrites) SetPassword(ctx context.Context, id, hash string) error {
	return tx.mustChange(ctx, "UPDATE people SET password_hash = ? WHERE id = ?", hash, id)
}

// CloseAccount closes somebody's account, and ends all they are signed in with
// and the enrolment links by them and for them, or opens it again.
func (tx peopleWrites) CloseAccount(ctx context.Context, id string, closed bool) error {
	if !closed {
		return tx.mustChange(ctx, "UPDATE people SET closed_at = NULL WHERE id = ?", id)
	}
	for _, end := range []func(context.Context, string) error{tokensWrites{tx.txn}.DropTokens, tx.dropEnrolmentsBy, tx.dropEnrolmentsFor} {
		if err := end(ctx, id); err != nil {
			return err
		}
	}
	return tx.mustChange(ctx, "UPDATE people SET closed_at = COALESCE(closed_at, ?) WHERE id = ?", micros(tx.now), id)
}

// PersonByName finds a person by the name they sign in with.
func (q peopleReads) PersonByName(ctx context.Context, name string) (Person, error) {
	return one(ctx, q.reader, scanPerson, personQuery+"WHERE p.name = ?", name)
}

// PersonByID finds a person.
func (q peopleReads) PersonByID(ctx context.Context, id string) (Person, error) {
	return one(ctx, q.reader, scanPerson, personQuery+"WHERE p.id = ?", id)
}

// People lists everybody in a scope, by name: of teams also those who are in one beside
// their own.
func (q peopleReads) People(ctx context.Context, s Scope) ([]Person, error) {
	if s.Whole() {
		return list(ctx, q.reader, scanPerson, personQuery+"ORDER BY p.name")
	}
	return list(ctx, q.reader, scanPerson, personQuery+`WHERE p.id IN (SELECT ?1 UNION SELECT id FROM people WHERE team_id IN (SELECT value FROM json_each(?2))
		UNION SELECT person_id FROM memberships WHERE team_id IN (SELECT value FROM json_each(?2))) ORDER BY p.name`, s.OwnerID, s.teams())
}
