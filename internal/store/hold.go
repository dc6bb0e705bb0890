package store

import (
	"context"
	"time"

	"yardbench/internal/core/journal"
)

// Hold keeps a workspace from being put to rest.
type Hold struct {
	Until time.Time
	Why   string
	ByID  string
}

// SetHold holds a workspace, in place of an older hold.
func (tx conditionsWrites) SetHold(ctx context.Context, w Workspace, h Hold) error {
	tx.touch(w.ID)
	if err := tx.exec(ctx, `INSERT INTO holds (workspace_id, until_at, why, by_id, at) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (workspace_id) DO UPDATE SET until_at = excluded.until_at, why = excluded.why, by_id = excluded.by_id, at = excluded.at`, w.ID, micros(h.Until), h.Why, h.ByID, micros(tx.now)); err != nil {
		return err
	}
	return tx.Journal(ctx, w.ID, w.OwnerID, h.ByID, journal.WorkspaceHeld{Until: h.Until, Why: h.Why})
}

// DropHold ends a hold, if there is one.
func (tx conditionsWrites) DropHold(ctx context.Context, w Workspace, actor string) error {
	tx.touch(w.ID)
	err := tx.mustChange(ctx, "DELETE FROM holds WHERE workspace_id = ?", w.ID)
	if err == ErrNotFound {
		return nil
	}
	if err != nil {
		return err
	}
	return tx.Journal(ctx, w.ID, w.OwnerID, actor, journal.HoldEnded{})
}

// Holds gives the holds of the workspaces that are not removed.
func (q conditionsReads) Holds(ctx context.Context) (map[string]Hold, error) {
	out := map[string]Hold{}
	_, err := list(ctx, q.reader, func(scan func(...any) error) (struct{}, error) {
		var id string
		var h Hold
		var at int64
		err := scan(&id, &at, &h.Why, &h.ByID)
		h.Until = fromMicros(at)
		out[id] = h
		return struct{}{}, err
	}, "SELECT h.workspace_id, h.until_at, h.why, h.by_id FROM workspaces w CROSS JOIN holds h ON h.workspace_id = w.id WHERE w.phase <> 'removed'")
	return out, err
}

// HoldOf gives a workspace's hold; the zero Hold when there is none.
func (q conditionsReads) HoldOf(ctx context.Context, workspace string) (Hold, error) {
	h, err := one(ctx, q.reader, func(scan func(...any) error) (h Hold, err error) {
		var at int64
		err = scan(&at, &h.Why, &h.ByID)
		h.Until = fromMicros(at)
		return h, err
	}, "SELECT until_at, why, by_id FROM holds WHERE workspace_id = ?", workspace)
	if err == ErrNotFound {
		return Hold{}, nil
	}
	return h, err
}
