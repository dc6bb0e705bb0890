package store

import (
	"context"
	"time"
)

// Errand says that a workspace is to go after one command. What that is is nobody's
// to keep.
type Errand struct {
	WorkspaceID string
	LeaseUntil  time.Time // when it goes, unless whoever asked is heard before
	MostUntil   time.Time // when it goes in any case
}

// Ends is when it goes, as things stand.
func (e Errand) Ends() time.Time {
	if e.MostUntil.Before(e.LeaseUntil) {
		return e.MostUntil
	}
	return e.LeaseUntil
}

const errandColumns = "workspace_id, lease_until, most_until"

func scanErrand(scan func(...any) error) (e Errand, err error) {
	var lease, most int64
	err = scan(&e.WorkspaceID, &lease, &most)
	e.LeaseUntil, e.MostUntil = fromMicros(lease), fromMicros(most)
	return e, err
}

// AddErrand says that a workspace is for one command.
func (tx workspacesWrites) AddErrand(ctx context.Context, e Errand) error {
	return tx.exec(ctx, "INSERT INTO errands ("+errandColumns+") VALUES (?, ?, ?)", e.WorkspaceID, micros(e.LeaseUntil), micros(e.MostUntil))
}

// RenewErrand says that whoever asked is still there.
func (tx workspacesWrites) RenewErrand(ctx context.Context, id string, until time.Time) error {
	return tx.mustChange(ctx, "UPDATE errands SET lease_until = ? WHERE workspace_id = ?", micros(until), id)
}

// EndErrand forgets an errand, where there is one.
func (tx workspacesWrites) EndErrand(ctx context.Context, id string) error {
	return tx.exec(ctx, "DELETE FROM errands WHERE workspace_id = ?", id)
}

// ErrandOf tells how long a workspace stays that is for one command.
func (q workspacesReads) ErrandOf(ctx context.Context, id string) (Errand, error) {
	return one(ctx, q.reader, scanErrand, "SELECT "+errandColumns+" FROM errands WHERE workspace_id = ?", id)
}

// Errands are all that go on.
func (q workspacesReads) Errands(ctx context.Context) ([]Errand, error) {
	return list(ctx, q.reader, scanErrand, "SELECT "+errandColumns+" FROM errands ORDER BY workspace_id")
}
