package store

import (
	"context"
	"time"
)

type (
	directoryReads  struct{ reader }
	directoryWrites struct{ *txn }
)

// DirectoryAccount is somebody as a directory tells of them.
type DirectoryAccount struct {
	Person                Person // its id, name, full name, address, and whether it is closed
	UserName, ExternalID  string
	GivenName, FamilyName string
	CreatedAt, ChangedAt  time.Time
}

// DirectoryGroup is a group as a directory tells of it.
type DirectoryGroup struct {
	ID, Name, ExternalID string
	CreatedAt, ChangedAt time.Time
}

// Member is somebody in a group.
type Member struct{ GroupID, Group, PersonID, UserName string }

const accountQuery = "SELECT " + personColumns + `, d.user_name, d.external_id, d.given_name, d.family_name, d.created_at, d.changed_at
 FROM directory_accounts d JOIN people p ON p.id = d.person_id` + personJoins

func scanAccount(scan func(...any) error) (a DirectoryAccount, err error) {
	var created, changed int64
	a.Person, err = scanPerson(func(of ...any) error {
		return scan(append(of, &a.UserName, &a.ExternalID, &a.GivenName, &a.FamilyName, &created, &changed)...)
	})
	a.CreatedAt, a.ChangedAt = fromMicros(created), fromMicros(changed)
	return a, err
}

// DirectoryAccounts lists those that a directory has told of, by their user names.
func (q directoryReads) DirectoryAccounts(ctx context.Context) ([]DirectoryAccount, error) {
	return list(ctx, q.reader, scanAccount, accountQuery+"ORDER BY d.user_name")
}

// DirectoryAccountByID finds one by the person's id.
func (q directoryReads) DirectoryAccountByID(ctx context.Context, id string) (DirectoryAccount, error) {
	return one(ctx, q.reader, scanAccount, accountQuery+"WHERE d.person_id = ?", id)
}

// DirectoryAccountByName finds one by its user name, whatever the case it is written in.
func (q directoryReads) DirectoryAccountByName(ctx context.Context, name string) (DirectoryAccount, error) {
	return one(ctx, q.reader, scanAccount, accountQuery+"WHERE d.user_name = ?", name)
}

// DirectoryCount counts them.
func (q directoryReads) DirectoryCount(ctx context.Context) (int, error) {
	return one(ctx, q.reader, func(scan func(...any) error) (n int, err error) { err = scan(&n); return n, err }, "SELECT count(*) FROM directory_accounts")
}

// PutDirectoryAccount adds one, or writes it anew.
func (tx directoryWrites) PutDirectoryAccount(ctx context.Context, a DirectoryAccount) error {
	return tx.exec(ctx, `INSERT INTO directory_accounts (person_id, user_name, external_id, given_name, family_name, created_at, changed_at) VALUES (?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (person_id) DO UPDATE SET user_name = excluded.user_name, external_id = excluded.external_id, given_name = excluded.given_name, family_name = excluded.family_name, changed_at = excluded.changed_at`,
		a.Person.ID, a.UserName, a.ExternalID, a.GivenName, a.FamilyName, micros(tx.now), micros(tx.now))
}

// SetPersonsName sets what stands on somebody's commits.
func (tx peopleWrites) SetPersonsName(ctx context.Context, id, fullName, email string) error {
	tx.touchAll()
	return tx.mustChange(ctx, "UPDATE people SET full_name = ?, email = ? WHERE id = ?", fullName, email, id)
}

// DropDirectoryAccount forgets what a directory told of somebody.
func (tx directoryWrites) DropDirectoryAccount(ctx context.Context, id string) error {
	if err := tx.exec(ctx, "DELETE FROM directory_members WHERE person_id = ?", id); err != nil {
		return err
	}
	return tx.mustChange(ctx, "DELETE FROM directory_accounts WHERE person_id = ?", id)
}

func scanGroup(scan func(...any) error) (g DirectoryGroup, err error) {
	var created, changed int64
	err = scan(&g.ID, &g.Name, &g.ExternalID, &created, &changed)
	g.CreatedAt, g.ChangedAt = fromMicros(created), fromMicros(changed)
	return g, err
}

// DirectoryGroups lists the groups, by name.
func (q directoryReads) DirectoryGroups(ctx context.Context) ([]DirectoryGroup, error) {
	return list(ctx, q.reader, scanGroup, "SELECT id, name, external_id, created_at, changed_at FROM directory_groups ORDER BY name")
}

// DirectoryGroupByID finds one.
func (q directoryReads) DirectoryGroupByID(ctx context.Context, id string) (DirectoryGroup, error) {
	return one(ctx, q.reader, scanGroup, "SELECT id, name, external_id, created_at, changed_at FROM directory_groups WHERE id = ?", id)
}

func scanMember(scan func(...any) error) (m Member, err error) {
	err = scan(&m.GroupID, &m.Group, &m.PersonID, &m.UserName)
	return m, err
}

const memberQuery = `SELECT m.group_id, g.name, m.person_id, d.user_name FROM directory_members m JOIN directory_groups g ON g.id = m.group_id JOIN directory_accounts d ON d.person_id = m.person_id `

// Members lists who is in which group; of one group, where it is named.
func (q directoryReads) Members(ctx context.Context, group string) ([]Member, error) {
	if group == "" {
		return list(ctx, q.reader, scanMember, memberQuery+"ORDER BY g.name, d.user_name")
	}
	return list(ctx, q.reader, scanMember, memberQuery+"WHERE m.group_id = ? ORDER BY d.user_name", group)
}

// GroupsOf lists the groups that somebody is in.
func (q directoryReads) GroupsOf(ctx context.Context, person string) ([]Member, error) {
	return list(ctx, q.reader, scanMember, memberQuery+"WHERE m.person_id = ? ORDER BY g.name", person)
}

// PutDirectoryGroup adds a group or writes it anew; gone are in it no more, and come are
// in it now.
func (tx directoryWrites) PutDirectoryGroup(ctx context.Context, g DirectoryGroup, gone, come []string) error {
	if err := tx.exec(ctx, `INSERT INTO directory_groups (id, name, external_id, created_at, changed_at) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (id) DO UPDATE SET name = excluded.name, external_id = excluded.external_id, changed_at = excluded.changed_at`, g.ID, g.Name, g.ExternalID, micros(tx.now), micros(tx.now)); err != nil {
		return err
	}
	for _, m := range gone {
		if err := tx.exec(ctx, "DELETE FROM directory_members WHERE group_id = ? AND person_id = ?", g.ID, m); err != nil {
			return err
		}
	}
	for _, m := range come {
		if err := tx.exec(ctx, "INSERT INTO directory_members (group_id, person_id) VALUES (?, ?)", g.ID, m); err != nil {
			return err
		}
	}
	return nil
}

// DropDirectoryGroup removes one.
func (tx directoryWrites) DropDirectoryGroup(ctx context.Context, id string) error {
	if err := tx.exec(ctx, "DELETE FROM directory_members WHERE group_id = ?", id); err != nil {
		return err
	}
	return tx.mustChange(ctx, "DELETE FROM directory_groups WHERE id = ?", id)
}
