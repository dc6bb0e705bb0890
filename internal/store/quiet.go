package store

import (
	"context"
	"time"

	"yardbench/internal/core/journal"
)

// Quiet says that a cause needs nobody for a time.
type Quiet struct {
	Cause, Reason, PersonID string
	Until                   time.Time
}

// PutQuiet has a cause be quiet for a time, in place of what was said before.
func (tx shownWrites) PutQuiet(ctx context.Context, q Quiet, what string) error {
	if err := tx.exec(ctx, "DELETE FROM quiets WHERE until_at <= ?", micros(tx.now)); err != nil {
		return err
	}
	if err := tx.exec(ctx, `INSERT INTO quiets (cause, reason, person_id, until_at) VALUES (?, ?, ?, ?)
		ON CONFLICT (cause) DO UPDATE SET reason = excluded.reason, person_id = excluded.person_id, until_at = excluded.until_at`, q.Cause, q.Reason, q.PersonID, micros(q.Until)); err != nil {
		return err
	}
	return tx.Journal(ctx, q.Cause, "", q.PersonID, journal.AttentionQuiet{What: what, Reason: q.Reason, Until: q.Until})
}

// EndQuiet has it need somebody again. [ErrNotFound] where it was not quiet.
func (tx shownWrites) EndQuiet(ctx context.Context, cause, actor string) error {
	if err := tx.mustChange(ctx, "DELETE FROM quiets WHERE cause = ?", cause); err != nil {
		return err
	}
	return tx.Journal(ctx, cause, "", actor, journal.AttentionAgain{})
}

// Quiets lists those that hold now.
func (q shownReads) Quiets(ctx context.Context, now time.Time) ([]Quiet, error) {
	return list(ctx, q.reader, func(scan func(...any) error) (x Quiet, err error) {
		var until int64
		err = scan(&x.Cause, &x.Reason, &x.PersonID, &until)
		x.Until = fromMicros(until)
		return x, err
	}, "SELECT cause, reason, person_id, until_at FROM quiets WHERE until_at > ?", micros(now))
}
