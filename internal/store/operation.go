package store

import (
	"context"
	"database/sql"
	"time"

	"yardbench/internal/core/operation"
)

type (
	operationsReads  struct{ reader }
	operationsWrites struct{ *txn }
)

// Operation is one verb asked of many workspaces.
type Operation struct {
	ID, PersonID string
	Grant        string // what the asker's sign-in reached, as JSON; empty is everything of theirs
	TokenID      string // the token by which it was asked; empty where by a sign-in
	Verb         operation.Verb
	Reason       string
	Options      string // JSON
	Total        int
	MadeAt       time.Time
	EndedAt      *time.Time
	CancelledBy  string // who cancelled it; empty is nobody
}

// Outcome is how an operation stands with one workspace.
type Outcome struct {
	Number            int
	WorkspaceID, Name string
	State             operation.State
	Kind, Detail      string
	Goal              int
	At                time.Time
}

// OperationsKept is how long an operation is kept after its end. The journal
// keeps what came of it.
const OperationsKept = 90 * 24 * time.Hour

const operationColumns = "id, person_id, grant_json, token_id, verb, reason, options, total, made_at, ended_at, cancelled_by"

func scanOperation(scan func(...any) error) (o Operation, err error) {
	var made int64
	var ended sql.NullInt64
	err = scan(&o.ID, &o.PersonID, &o.Grant, &o.TokenID, &o.Verb, &o.Reason, &o.Options, &o.Total, &made, &ended, &o.CancelledBy)
	o.MadeAt, o.EndedAt = fromMicros(made), fromNullMicros(ended)
	return o, err
}

const outcomeColumns = "number, workspace_id, name, state, kind, detail, goal, at"

func scanOutcome(scan func(...any) error) (o Outcome, err error) {
	var at int64
	err = scan(&o.Number, &o.WorkspaceID, &o.Name, &o.State, &o.Kind, &o.Detail, &o.Goal, &at)
	o.At = fromMicros(at)
	return o, err
}

// AddOperation begins an operation with the workspaces it is asked of, and
// forgets those that ended long ago.
func (tx operationsWrites) AddOperation(ctx context.Context, o *Operation, of []Outcome) error {
	if err := tx.exec(ctx, "DELETE FROM operations WHERE ended_at < ?", micros(tx.now.Add(-OperationsKept))); err != nil {
		return err
	}
	o.MadeAt, o.Total = tx.now, len(of)
	if err := tx.exec(ctx, "INSERT INTO operations ("+operationColumns+") VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, NULL, '')", o.ID, o.PersonID, o.Grant, o.TokenID, o.Verb, o.Reason, o.Options, o.Total, micros(o.MadeAt)); err != nil {
		return err
	}
	for i, w := range of {
		if err := tx.exec(ctx, "INSERT INTO outcomes (operation_id, number, workspace_id, name, state, at) VALUES (?, ?, ?, ?, ?, ?)", o.ID, i+1, w.WorkspaceID, w.Name, operation.Waiting, micros(tx.now)); err != nil {
			return err
		}
	}
	return nil
}

// SetOutcome writes down how an operation stands with one workspace. One that is
// over stays as it is: [ErrNotFound].
func (tx operationsWrites) SetOutcome(ctx context.Context, id string, o Outcome) error {
	return tx.mustChange(ctx, "UPDATE outcomes SET state = ?, kind = ?, detail = ?, goal = ?, at = ? WHERE operation_id = ? AND number = ? AND state IN (?, ?)",
		o.State, o.Kind, o.Detail, o.Goal, micros(tx.now), id, o.Number, operation.Waiting, operation.UnderWay)
}

// CancelOperation has those of whom nothing was asked yet be left alone.
func (tx operationsWrites) CancelOperation(ctx context.Context, id, by, why string) error {
	if err := tx.mustChange(ctx, "UPDATE operations SET cancelled_by = ? WHERE id = ? AND ended_at IS NULL AND cancelled_by = ''", by, id); err != nil {
		return err
	}
	return tx.exec(ctx, "UPDATE outcomes SET state = ?, detail = ?, at = ? WHERE operation_id = ? AND state = ?", operation.Cancelled, why, micros(tx.now), id, operation.Waiting)
}

// EndOperation records that it is over with all of them.
func (tx operationsWrites) EndOperation(ctx context.Context, id string) error {
	return tx.mustChange(ctx, "UPDATE operations SET ended_at = ? WHERE id = ? AND ended_at IS NULL", micros(tx.now), id)
}

// OperationByID finds an operation.
func (q operationsReads) OperationByID(ctx context.Context, id string) (Operation, error) {
	return one(ctx, q.reader, scanOperation, "SELECT "+operationColumns+" FROM operations WHERE id = ?", id)
}

// Operations lists the newest, at most so many.
func (q operationsReads) Operations(ctx context.Context, most int) ([]Operation, error) {
	return list(ctx, q.reader, scanOperation, "SELECT "+operationColumns+" FROM operations ORDER BY made_at DESC LIMIT ?", most)
}

// OpenOperations lists those that are not over, the oldest first.
func (q operationsReads) OpenOperations(ctx context.Context) ([]Operation, error) {
	return list(ctx, q.reader, scanOperation, "SELECT "+operationColumns+" FROM operations INDEXED BY operations_open WHERE ended_at IS NULL ORDER BY made_at")
}

// Outcomes lists how it stands with each workspace of an operation.
func (q operationsReads) Outcomes(ctx context.Context, id string) ([]Outcome, error) {
	return list(ctx, q.reader, scanOutcome, "SELECT "+outcomeColumns+" FROM outcomes WHERE operation_id = ? ORDER BY number", id)
}

// OutcomesIn lists those in one state, the first at most.
func (q operationsReads) OutcomesIn(ctx context.Context, id string, s operation.State, most int) ([]Outcome, error) {
	return list(ctx, q.reader, scanOutcome, "SELECT "+outcomeColumns+" FROM outcomes WHERE operation_id = ? AND state = ? ORDER BY number LIMIT ?", id, s, most)
}

// CountOutcomes counts the outcomes of an operation by state.
func (q operationsReads) CountOutcomes(ctx context.Context, id string) (operation.Count, error) {
	out := operation.Count{}
	_, err := list(ctx, q.reader, func(scan func(...any) error) (struct{}, error) {
		var s operation.State
		var n int
		err := scan(&s, &n)
		out[s] = n
		return struct{}{}, err
	}, "SELECT state, COUNT(*) FROM outcomes WHERE operation_id = ? GROUP BY state", id)
	return out, err
}
