package store

import (
	"context"
	"time"

	"yardbench/internal/core/journal"
)

// KeptStray says that what the yard has of a workspace that no record knows was
// looked at, and stays.
type KeptStray struct {
	WorkspaceID, Reason, PersonID string
	Person                        string // by name
	At                            time.Time
}

// KeepStray has it stay, in place of what was said of it before.
func (tx shownWrites) KeepStray(ctx context.Context, id, reason, actor string) error {
	if err := tx.exec(ctx, `INSERT INTO kept_strays (workspace_id, reason, person_id, at) VALUES (?, ?, ?, ?)
		ON CONFLICT (workspace_id) DO UPDATE SET reason = excluded.reason, person_id = excluded.person_id, at = excluded.at`, id, reason, actor, micros(tx.now)); err != nil {
		return err
	}
	return tx.Journal(ctx, id, "", actor, journal.QuarantineKept{Reason: reason})
}

// DropStray forgets what was said of one: it is gone, or somebody's.
func (tx shownWrites) DropStray(ctx context.Context, id string) error {
	return tx.exec(ctx, "DELETE FROM kept_strays WHERE workspace_id = ?", id)
}

// KeptStrays are those that stay, by workspace.
func (q shownReads) KeptStrays(ctx context.Context) (map[string]KeptStray, error) {
	all, err := list(ctx, q.reader, func(scan func(...any) error) (x KeptStray, err error) {
		var at int64
		err = scan(&x.WorkspaceID, &x.Reason, &x.PersonID, &x.Person, &at)
		x.At = fromMicros(at)
		return x, err
	}, "SELECT k.workspace_id, k.reason, k.person_id, p.name, k.at FROM kept_strays k JOIN people p ON p.id = k.person_id")
	out := map[string]KeptStray{}
	for _, x := range all {
		out[x.WorkspaceID] = x
	}
	return out, err
}
