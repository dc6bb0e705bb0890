package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"yardbench/internal/core/policy"
)

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
	Guest            *Guest // what it is for, where it brings a guest in
	// Name, FullName and Email are whom it is for, where that was said: the account has
	// those.
	Name, FullName, Email string
}

const enrolmentQuery = `SELECT e.id, e.hash, e.role, COALESCE(e.team_id, ''), COALESCE(t.name, ''), COALESCE(e.person_id, ''), COALESCE(p.name, ''), e.made_by, e.expires_at, e.used_at, e.guest, e.name, e.full_name, e.email
 FROM enrolments e LEFT JOIN teams t ON t.id = e.team_id LEFT JOIN people p ON p.id = e.person_id `

func scanEnrolment(scan func(...any) error) (e Enrolment, err error) {
	var expires int64
	var used sql.NullInt64
	var guest string
	err = scan(&e.ID, &e.Hash, &e.Role, &e.TeamID, &e.Team, &e.PersonID, &e.Person, &e.MadeBy, &expires, &used, &guest, &e.Name, &e.FullName, &e.Email)
	e.ExpiresAt, e.UsedAt = fromMicros(expires), fromNullMicros(used)
	if err == nil && guest != "" {
		e.Role, e.Guest = policy.Guest, &Guest{}
		err = json.Unmarshal([]byte(guest), e.Guest)
	}
	return e, err
}

// AddEnrolment adds a link and forgets those that have expired.
func (tx peopleWrites) AddEnrolment(ctx context.Context, e Enrolment) error {
	if err := tx.exec(ctx, "DELETE FROM enrolments WHERE expires_at < ?", micros(tx.now)); err != nil {
		return err
	}
	guest := ""
	if e.Guest != nil {
		text, err := json.Marshal(e.Guest)
		if err != nil {
			return err
		}
		guest = string(text)
	}
	if e.Role == policy.Guest { // what a guest is beside is their access
		e.Role = policy.Developer
	}
	return tx.exec(ctx, "INSERT INTO enrolments (id, hash, role, team_id, person_id, made_by, created_at, expires_at, guest, name, full_name, email) VALUES (?, ?, ?, NULLIF(?, ''), NULLIF(?, ''), ?, ?, ?, ?, ?, ?, ?)",
		e.ID, e.Hash, e.Role, e.TeamID, e.PersonID, e.MadeBy, micros(tx.now), micros(e.ExpiresAt), guest, e.Name, e.FullName, e.Email)
}

// EnrolmentByHash finds a link that can still be used at now. One counts only
// while whoever made it may make links, a lead such for guests of their team; those that the service makes itself
// always do.
func (q peopleReads) EnrolmentByHash(ctx context.Context, hash []byte, now time.Time) (Enrolment, error) {
	return one(ctx, q.reader, scanEnrolment, enrolmentQuery+"WHERE e.hash = ? AND e.used_at IS NULL AND e.expires_at > ? AND (e.made_by = 'service' OR EXISTS (SELECT 1 FROM people m WHERE m.id = e.made_by AND m.closed_at IS NULL AND (m.role = 'operator' OR e.guest <> '' AND (m.role = 'lead' AND m.team_id = e.team_id OR EXISTS (SELECT 1 FROM memberships k WHERE k.person_id = m.id AND k.team_id = e.team_id AND k.leads)))))", hash, micros(now))
}

// UseEnrolment marks a link as used.
func (tx peopleWrites) UseEnrolment(ctx context.Context, id string) error {
	return tx.mustChange(ctx, "UPDATE enrolments SET used_at = ? WHERE id = ? AND used_at IS NULL", micros(tx.now), id)
}

// Enrolments lists the links that can still be used at now, newest first.
func (q peopleReads) Enrolments(ctx context.Context, now time.Time) ([]Enrolment, error) {
	return list(ctx, q.reader, scanEnrolment, enrolmentQuery+"WHERE e.used_at IS NULL AND e.expires_at > ? ORDER BY e.created_at DESC", micros(now))
}

// DropEnrolment takes back a link that nobody has used; ErrNotFound where there
// is none with the id.
func (tx peopleWrites) DropEnrolment(ctx context.Context, id string) error {
	return tx.mustChange(ctx, "DELETE FROM enrolments WHERE id = ? AND used_at IS NULL", id)
}

// dropEnrolmentsBy takes back what somebody has made, and dropEnrolmentsFor what
// was made for them.
func (tx peopleWrites) dropEnrolmentsBy(ctx context.Context, person string) error {
	return tx.exec(ctx, "DELETE FROM enrolments WHERE made_by = ? AND used_at IS NULL", person)
}

func (tx peopleWrites) dropEnrolmentsFor(ctx context.Context, person string) error {
	return tx.exec(ctx, "DELETE FROM enrolments WHERE person_id = ? AND used_at IS NULL", person)
}
