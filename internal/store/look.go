package store

import (
	"context"
	"time"

	"yardbench/internal/core/journal"
)

// Look lets somebody look at a terminal in a workspace that is not theirs.
type Look struct {
	WorkspaceID, Terminal, PersonID string
	Writes                          bool // they may type, too
	Until                           time.Time
}

// AllowLook lets somebody look, in place of what they might before.
func (tx shownWrites) AllowLook(ctx context.Context, w Workspace, l Look) error {
	tx.shift(w.ID)
	tx.shift(l.PersonID)
	if err := tx.exec(ctx, "DELETE FROM looks WHERE workspace_id = ? AND until_at <= ?", w.ID, micros(tx.now)); err != nil {
		return err
	}
	if err := tx.exec(ctx, `INSERT INTO looks (workspace_id, terminal, person_id, writes, until_at) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (workspace_id, terminal, person_id) DO UPDATE SET writes = excluded.writes, until_at = excluded.until_at`, w.ID, l.Terminal, l.PersonID, l.Writes, micros(l.Until)); err != nil {
		return err
	}
	return tx.Journal(ctx, w.ID, w.OwnerID, w.OwnerID, journal.LookAllowed{Person: l.PersonID, Terminal: l.Terminal, Writes: l.Writes, Until: l.Until})
}

// EndLook lets somebody look no more. [ErrNotFound] where they might not.
func (tx shownWrites) EndLook(ctx context.Context, w Workspace, terminal, person string) error {
	tx.shift(w.ID)
	tx.shift(person)
	if err := tx.mustChange(ctx, "DELETE FROM looks WHERE workspace_id = ? AND terminal = ? AND person_id = ?", w.ID, terminal, person); err != nil {
		return err
	}
	return tx.Journal(ctx, w.ID, w.OwnerID, w.OwnerID, journal.LookEnded{Person: person, Terminal: terminal})
}

const lookColumns = "SELECT workspace_id, terminal, person_id, writes, until_at FROM looks "

func (q shownReads) looks(ctx context.Context, now time.Time, query string, args ...any) ([]Look, error) {
	return list(ctx, q.reader, func(scan func(...any) error) (l Look, err error) {
		var until int64
		err = scan(&l.WorkspaceID, &l.Terminal, &l.PersonID, &l.Writes, &until)
		l.Until = fromMicros(until)
		return l, err
	}, lookColumns+query+" AND until_at > ?", append(args, micros(now))...)
}

// LooksAt lists who may look at terminals of a workspace now.
func (q shownReads) LooksAt(ctx context.Context, workspace string, now time.Time) ([]Look, error) {
	return q.looks(ctx, now, "WHERE workspace_id = ?", workspace)
}

// LooksOf lists where somebody may look now.
func (q shownReads) LooksOf(ctx context.Context, person string, now time.Time) ([]Look, error) {
	return q.looks(ctx, now, "WHERE person_id = ?", person)
}

// SetFirstLine sets the line that each new terminal of a workspace runs first; empty
// is none.
func (tx shownWrites) SetFirstLine(ctx context.Context, w Workspace, line, actor string) error {
	q, args := "INSERT INTO first_lines (workspace_id, line) VALUES (?, ?) ON CONFLICT (workspace_id) DO UPDATE SET line = excluded.line", []any{w.ID, line}
	if line == "" {
		q, args = "DELETE FROM first_lines WHERE workspace_id = ?", args[:1]
	}
	if err := tx.exec(ctx, q, args...); err != nil {
		return err
	}
	return tx.Journal(ctx, w.ID, w.OwnerID, actor, journal.FirstLineSet{Set: line != ""})
}

// FirstLine is the line that each new terminal of a workspace runs first; empty is
// none.
func (q shownReads) FirstLine(ctx context.Context, workspace string) (line string, err error) {
	all, err := list(ctx, q.reader, func(scan func(...any) error) (line string, err error) {
		return line, scan(&line)
	}, "SELECT line FROM first_lines WHERE workspace_id = ?", workspace)
	if len(all) > 0 {
		line = all[0]
	}
	return line, err
}
