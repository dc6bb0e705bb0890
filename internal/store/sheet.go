package store

import (
	"context"
	"database/sql"
	"time"

	"yardbench/internal/core/lifecycle"
)

type (
	sheetsReads  struct{ reader }
	sheetsWrites struct{ *txn }
)

// Sheet is a launch sheet: the timed list of steps of one operation.
type Sheet struct {
	ID, WorkspaceID string
	Number          int
	Kind            lifecycle.SheetKind
	StartedAt       time.Time
	EndedAt         *time.Time
	Outcome         lifecycle.Outcome
	Cause           string
}

const sheetColumns = "id, workspace_id, number, kind, started_at, ended_at, outcome, cause"

func scanSheet(scan func(...any) error) (s Sheet, err error) {
	var start int64
	var end sql.NullInt64
	err = scan(&s.ID, &s.WorkspaceID, &s.Number, &s.Kind, &start, &end, &s.Outcome, &s.Cause)
	s.StartedAt, s.EndedAt = fromMicros(start), fromNullMicros(end)
	return s, err
}

// OpenSheet begins a launch sheet. One that is still open ends as interrupted.
func (tx sheetsWrites) OpenSheet(ctx context.Context, workspace string, kind lifecycle.SheetKind) (Sheet, error) {
	if open, err := tx.CurrentSheet(ctx, workspace); err == nil && open.EndedAt == nil {
		if err := tx.CloseSheet(ctx, open.ID, lifecycle.Interrupted, "another request came first"); err != nil {
			return Sheet{}, err
		}
	}
	s := Sheet{ID: NewID(), WorkspaceID: workspace, Kind: kind, StartedAt: tx.now}
	if err := tx.db.QueryRowContext(ctx, "SELECT COALESCE(MAX(number), 0) + 1 FROM sheets WHERE workspace_id = ?", workspace).Scan(&s.Number); err != nil {
		return s, err
	}
	return s, tx.addSheet(ctx, s)
}

// FirstSheet begins the first launch sheet of a workspace that was just added.
func (tx sheetsWrites) FirstSheet(ctx context.Context, workspace string, kind lifecycle.SheetKind) error {
	return tx.addSheet(ctx, Sheet{ID: NewID(), WorkspaceID: workspace, Number: 1, Kind: kind})
}

func (tx sheetsWrites) addSheet(ctx context.Context, s Sheet) error {
	tx.touch(s.WorkspaceID)
	return tx.exec(ctx, "INSERT INTO sheets ("+sheetColumns+") VALUES (?, ?, ?, ?, ?, NULL, '', '')", s.ID, s.WorkspaceID, s.Number, s.Kind, micros(tx.now))
}

// CloseSheet ends a launch sheet, and its steps that still run as interrupted.
func (tx sheetsWrites) CloseSheet(ctx context.Context, id string, o lifecycle.Outcome, cause string) error {
	if err := tx.exec(ctx, "UPDATE steps SET ended_at = ?, outcome = 'interrupted' WHERE sheet_id = ? AND ended_at IS NULL", micros(tx.now), id); err != nil {
		return err
	}
	res, err := tx.db.ExecContext(ctx, "UPDATE sheets SET ended_at = ?, outcome = ?, cause = ? WHERE id = ? AND ended_at IS NULL", micros(tx.now), o, cause, id)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 || o != lifecycle.Done {
		return err
	}
	var repository, kind string
	var prepared bool
	var number int
	var of lifecycle.SheetKind
	var started int64
	if err := tx.db.QueryRowContext(ctx, `SELECT w.repository_id, w.kind, COALESCE(p.prepared_run, '') <> '', h.number, h.kind, h.started_at FROM sheets h JOIN workspaces w ON w.id = h.workspace_id
		LEFT JOIN plans p ON p.id = w.plan_id WHERE h.id = ?`, id).Scan(&repository, &kind, &prepared, &number, &of, &started); err != nil {
		return err
	}
	if number != 1 || of != lifecycle.LaunchSheet || kind != ForPerson {
		return nil
	}
	return tx.keepTime(ctx, repository, of, wholeLaunch, prepared, tx.now.Sub(fromMicros(started)))
}

// CurrentSheet is a workspace's newest launch sheet.
func (q sheetsReads) CurrentSheet(ctx context.Context, workspace string) (Sheet, error) {
	return one(ctx, q.reader, scanSheet, "SELECT "+sheetColumns+" FROM sheets WHERE workspace_id = ? ORDER BY number DESC LIMIT 1", workspace)
}

// SheetByNumber is one of a workspace's launch sheets.
func (q sheetsReads) SheetByNumber(ctx context.Context, workspace string, number int) (Sheet, error) {
	return one(ctx, q.reader, scanSheet, "SELECT "+sheetColumns+" FROM sheets WHERE workspace_id = ? AND number = ?", workspace, number)
}

// Sheets lists a workspace's launch sheets, newest first.
func (q sheetsReads) Sheets(ctx context.Context, workspace string) ([]Sheet, error) {
	return list(ctx, q.reader, scanSheet, "SELECT "+sheetColumns+" FROM sheets WHERE workspace_id = ? ORDER BY number DESC", workspace)
}

// NewestSheets gives the number of the newest launch sheet of each workspace
// that is not removed.
func (q sheetsReads) NewestSheets(ctx context.Context) (map[string]int, error) {
	out := map[string]int{}
	_, err := list(ctx, q.reader, func(scan func(...any) error) (struct{}, error) {
		var id string
		var n int
		err := scan(&id, &n)
		out[id] = n
		return struct{}{}, err
	}, "SELECT w.id, COALESCE((SELECT MAX(number) FROM sheets WHERE workspace_id = w.id), 0) FROM workspaces w WHERE w.phase <> 'removed'")
	return out, err
}
