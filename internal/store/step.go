package store

import (
	"context"
	"database/sql"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
)

// Step is one line of a launch sheet.
type Step struct {
	SheetID        string
	Number, Parent int
	Key, Title     string
	Body, Attempt  int
	StartedAt      time.Time
	EndedAt        *time.Time
	Cached         bool
	Outcome        lifecycle.Outcome
	Cause          string
	Bytes          int64 // that it brought in: an image fetched or built, a clone; 0 for none
}

const stepColumns = "sheet_id, number, parent, key, title, body, attempt, started_at, ended_at, cached, outcome, cause, bytes"

func scanStep(scan func(...any) error) (s Step, err error) {
	var start int64
	var end sql.NullInt64
	err = scan(&s.SheetID, &s.Number, &s.Parent, &s.Key, &s.Title, &s.Body, &s.Attempt, &start, &end, &s.Cached, &s.Outcome, &s.Cause, &s.Bytes)
	s.StartedAt, s.EndedAt = fromMicros(start), fromNullMicros(end)
	return s, err
}

// BeginStep records that a step of a sheet begins, before it is done. A step
// whose key stands there already begins anew, with its attempt counted.
func (tx sheetsWrites) BeginStep(ctx context.Context, s Step) (Step, error) {
	s.StartedAt = tx.now
	old, err := one(ctx, tx.reader, scanStep, "SELECT "+stepColumns+" FROM steps WHERE sheet_id = ? AND key = ?", s.SheetID, s.Key)
	if err == nil {
		old.Attempt++
		old.StartedAt, old.EndedAt, old.Outcome, old.Cause, old.Cached = tx.now, nil, "", "", false
		return old, tx.exec(ctx, "UPDATE steps SET attempt = ?, started_at = ?, ended_at = NULL, outcome = '', cause = '', cached = 0, bytes = 0 WHERE sheet_id = ? AND number = ?",
			old.Attempt, micros(tx.now), old.SheetID, old.Number)
	} else if err != ErrNotFound {
		return s, err
	}
	s.Attempt = 1
	if err := tx.db.QueryRowContext(ctx, "SELECT COALESCE(MAX(number), 0) + 1 FROM steps WHERE sheet_id = ?", s.SheetID).Scan(&s.Number); err != nil {
		return s, err
	}
	return s, tx.exec(ctx, "INSERT INTO steps ("+stepColumns+") VALUES (?, ?, ?, ?, ?, ?, ?, ?, NULL, 0, '', '', 0)",
		s.SheetID, s.Number, s.Parent, s.Key, s.Title, s.Body, s.Attempt, micros(tx.now))
}

// EndStep records how a step ended. With both times given they are kept as
// the yard measured them; zero times mean now.
func (tx sheetsWrites) EndStep(ctx context.Context, s Step, o lifecycle.Outcome, cached bool, cause string) error {
	end := tx.now
	if s.EndedAt != nil {
		end = *s.EndedAt
	}
	if s.Parent == 0 && o == lifecycle.Done {
		var repository string
		var kind lifecycle.SheetKind
		if err := tx.db.QueryRowContext(ctx, "SELECT w.repository_id, h.kind FROM sheets h JOIN workspaces w ON w.id = h.workspace_id WHERE h.id = ?", s.SheetID).Scan(&repository, &kind); err != nil {
			return err
		}
		if err := tx.keepTime(ctx, repository, kind, s.Key, cached, end.Sub(s.StartedAt)); err != nil {
			return err
		}
	}
	return tx.mustChange(ctx, "UPDATE steps SET started_at = ?, ended_at = ?, outcome = ?, cached = ?, cause = ?, bytes = ? WHERE sheet_id = ? AND number = ?",
		micros(s.StartedAt), micros(end), o, cached, cause, s.Bytes, s.SheetID, s.Number)
}

// Steps lists the steps of a sheet in the order of starting.
func (q sheetsReads) Steps(ctx context.Context, sheet string) ([]Step, error) {
	return list(ctx, q.reader, scanStep, "SELECT "+stepColumns+" FROM steps WHERE sheet_id = ? ORDER BY number", sheet)
}

// EndedSetUp tells which life-cycle moments were ended in a body, in any
// sheet, and whether one of them failed that others stand on.
func (q sheetsReads) EndedSetUp(ctx context.Context, workspace string, body int) (ended map[definition.Moment]bool, failed bool, err error) {
	rows, err := list(ctx, q.reader, scanStep, `SELECT `+prefixed("s", stepColumns)+` FROM steps s JOIN sheets h ON h.id = s.sheet_id
		WHERE h.workspace_id = ? AND s.body = ? AND s.key LIKE 'set-up/%' AND s.parent = 0 AND s.ended_at IS NOT NULL`, workspace, body)
	ended = map[definition.Moment]bool{}
	for _, s := range rows {
		m := definition.Moment(s.Key[len("set-up/"):])
		ended[m] = true
		failed = failed || s.Outcome != lifecycle.Done && !m.Harmless()
	}
	return ended, failed, err
}
