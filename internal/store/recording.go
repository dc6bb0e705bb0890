package store

import (
	"context"
	"database/sql"
	"time"

	"yardbench/internal/core/journal"
)

// Recording is what a terminal printed, and when. It lies in a file by its id.
type Recording struct {
	ID, WorkspaceID, OwnerID, Terminal string
	Life                               string // of the terminal; "" until it was told
	Asked                              bool   // by the workspace's owner; else the house rules have it
	BeganAt                            time.Time
	EndedAt                            *time.Time
	Why                                string // it ended
	Place, Bytes                       int64  // so much of what was printed is in the file, and so long is that
}

const recordingColumns = "SELECT id, workspace_id, owner_id, terminal, life, asked, began_at, ended_at, why, place, bytes FROM recordings "

func scanRecording(scan func(...any) error) (r Recording, err error) {
	var began int64
	var ended sql.NullInt64
	err = scan(&r.ID, &r.WorkspaceID, &r.OwnerID, &r.Terminal, &r.Life, &r.Asked, &began, &ended, &r.Why, &r.Place, &r.Bytes)
	r.BeganAt, r.EndedAt = fromMicros(began), fromNullMicros(ended)
	return r, err
}

// BeginRecording adds a recording of a workspace's terminal.
func (tx shownWrites) BeginRecording(ctx context.Context, w Workspace, r Recording, actor string) error {
	if err := tx.exec(ctx, "INSERT INTO recordings (id, workspace_id, owner_id, terminal, asked, began_at) VALUES (?, ?, ?, ?, ?, ?)", r.ID, w.ID, w.OwnerID, r.Terminal, r.Asked, micros(r.BeganAt)); err != nil {
		return err
	}
	return tx.Journal(ctx, w.ID, w.OwnerID, actor, journal.RecordingBegun{Recording: r.ID, Terminal: r.Terminal, Asked: r.Asked})
}

// NoteRecording notes how far a recording that goes on has come.
func (tx shownWrites) NoteRecording(ctx context.Context, r Recording) error {
	return tx.mustChange(ctx, "UPDATE recordings SET life = ?, place = ?, bytes = ? WHERE id = ? AND ended_at IS NULL", r.Life, r.Place, r.Bytes, r.ID)
}

// EndRecording ends a recording, as far as it has come.
func (tx shownWrites) EndRecording(ctx context.Context, w Workspace, r Recording, why, actor string) error {
	if err := tx.mustChange(ctx, "UPDATE recordings SET life = ?, place = ?, bytes = ?, ended_at = ?, why = ? WHERE id = ? AND ended_at IS NULL", r.Life, r.Place, r.Bytes, micros(tx.now), why, r.ID); err != nil {
		return err
	}
	return tx.Journal(ctx, w.ID, w.OwnerID, actor, journal.RecordingEnded{Recording: r.ID, Terminal: r.Terminal, Why: why})
}

// DropRecording forgets a recording that has ended.
func (tx shownWrites) DropRecording(ctx context.Context, id string) error {
	return tx.mustChange(ctx, "DELETE FROM recordings WHERE id = ? AND ended_at IS NOT NULL", id)
}

// Recording finds one.
func (q shownReads) Recording(ctx context.Context, id string) (Recording, error) {
	return one(ctx, q.reader, scanRecording, recordingColumns+"WHERE id = ?", id)
}

// RecordingsOf lists those of a workspace, the oldest first.
func (q shownReads) RecordingsOf(ctx context.Context, workspace string) ([]Recording, error) {
	return list(ctx, q.reader, scanRecording, recordingColumns+"WHERE workspace_id = ? ORDER BY began_at, id", workspace)
}

// RecordingsBy lists the newest of all workspaces that somebody has or had, the
// newest first; of everybody's where owner is "".
func (q shownReads) RecordingsBy(ctx context.Context, owner string, most int) ([]Recording, error) {
	if owner == "" {
		return list(ctx, q.reader, scanRecording, recordingColumns+"ORDER BY began_at DESC LIMIT ?", most)
	}
	return list(ctx, q.reader, scanRecording, recordingColumns+"WHERE owner_id = ? ORDER BY began_at DESC LIMIT ?", owner, most)
}

// OpenRecordings lists those that go on.
func (q shownReads) OpenRecordings(ctx context.Context) ([]Recording, error) {
	return list(ctx, q.reader, scanRecording, recordingColumns+"WHERE ended_at IS NULL")
}

// EndedRecordings lists those that ended before a time, the oldest first.
func (q shownReads) EndedRecordings(ctx context.Context, before time.Time, most int) ([]Recording, error) {
	return list(ctx, q.reader, scanRecording, recordingColumns+"WHERE ended_at IS NOT NULL AND ended_at < ? ORDER BY ended_at LIMIT ?", micros(before), most)
}

// RecordedBytes is how long all recordings are together.
func (q shownReads) RecordedBytes(ctx context.Context) (int64, error) {
	return one(ctx, q.reader, func(scan func(...any) error) (n int64, err error) { return n, scan(&n) }, "SELECT COALESCE(SUM(bytes), 0) FROM recordings")
}
