package store

import (
	"context"
	"strings"
	"time"

	"yardbench/internal/core/cost"
	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
)

type (
	conditionsReads  struct{ reader }
	conditionsWrites struct{ *txn }
)

// SetCondition sets a condition; one that stands already keeps its since.
func (tx conditionsWrites) SetCondition(ctx context.Context, w Workspace, kind lifecycle.ConditionKind, reason string) error {
	return tx.SetConditionSince(ctx, w, kind, reason, tx.now)
}

// SetConditionSince is SetCondition for what began before it was noticed.
func (tx conditionsWrites) SetConditionSince(ctx context.Context, w Workspace, kind lifecycle.ConditionKind, reason string, since time.Time) error {
	res, err := tx.db.ExecContext(ctx, `INSERT INTO conditions (workspace_id, kind, reason, since_at) VALUES (?, ?, ?, ?)
		ON CONFLICT (workspace_id, kind) DO UPDATE SET reason = excluded.reason WHERE reason <> excluded.reason`, w.ID, kind, reason, micros(since))
	if err != nil {
		return err
	}
	if n, _ := res.RowsAffected(); n == 0 {
		return nil
	}
	tx.touch(w.ID)
	if err := tx.Journal(ctx, w.ID, w.journalOwner(), "service", journal.ConditionBegun{Condition: kind, Reason: reason, Since: since.UTC().Truncate(time.Microsecond)}); err != nil {
		return err
	}
	if kind == lifecycle.IdleNow {
		return meterWrites{tx.txn}.meter(ctx, w, cost.Event{Idle: true, Since: since.UTC().Truncate(time.Microsecond)})
	}
	return nil
}

// mostNotices bounds what notices that nobody has read yet say together, in bytes.
const mostNotices = 1000

// AddNotice puts a word before a workspace's owner, behind those that they have not read.
func (tx conditionsWrites) AddNotice(ctx context.Context, w Workspace, text string) error {
	standing, err := tx.Conditions(ctx, w.ID)
	if err != nil {
		return err
	}
	for _, c := range standing {
		switch {
		case c.Kind != lifecycle.Notice:
		case strings.Contains(c.Reason, text):
			return nil
		case len(c.Reason)+len(text) < mostNotices:
			text = c.Reason + "; " + text
		}
	}
	return tx.SetCondition(ctx, w, lifecycle.Notice, text)
}

// ClearCondition ends a condition, if it stands.
func (tx conditionsWrites) ClearCondition(ctx context.Context, w Workspace, kind lifecycle.ConditionKind) error {
	err := tx.mustChange(ctx, "DELETE FROM conditions WHERE workspace_id = ? AND kind = ?", w.ID, kind)
	if err == ErrNotFound {
		return nil
	}
	if err != nil {
		return err
	}
	tx.touch(w.ID)
	if err := tx.Journal(ctx, w.ID, w.journalOwner(), "service", journal.ConditionOver{Condition: kind, Over: true}); err != nil {
		return err
	}
	if kind == lifecycle.IdleNow {
		return meterWrites{tx.txn}.meter(ctx, w, cost.Event{Awake: true})
	}
	return nil
}

// ClearConditions ends every condition of the kinds, where they stand.
func (tx conditionsWrites) ClearConditions(ctx context.Context, w Workspace, kinds ...lifecycle.ConditionKind) error {
	for _, k := range kinds {
		if err := tx.ClearCondition(ctx, w, k); err != nil {
			return err
		}
	}
	return nil
}

// Conditions lists what stands beside a workspace's phase.
func (q conditionsReads) Conditions(ctx context.Context, workspace string) ([]lifecycle.Condition, error) {
	return list(ctx, q.reader, func(scan func(...any) error) (c lifecycle.Condition, err error) {
		var at int64
		err = scan(&c.Kind, &c.Reason, &at)
		c.Since = fromMicros(at)
		return c, err
	}, "SELECT kind, reason, since_at FROM conditions WHERE workspace_id = ? ORDER BY kind", workspace)
}

// AllConditions lists what stands beside the phases of all workspaces.
func (q conditionsReads) AllConditions(ctx context.Context) (map[string][]lifecycle.Condition, error) {
	out := map[string][]lifecycle.Condition{}
	_, err := list(ctx, q.reader, func(scan func(...any) error) (struct{}, error) {
		var id string
		var c lifecycle.Condition
		var at int64
		err := scan(&id, &c.Kind, &c.Reason, &at)
		c.Since = fromMicros(at)
		out[id] = append(out[id], c)
		return struct{}{}, err
	}, "SELECT workspace_id, kind, reason, since_at FROM conditions ORDER BY kind")
	return out, err
}
