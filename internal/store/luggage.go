package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"yardbench/internal/core/luggage"
)

type (
	luggageReads  struct{ reader }
	luggageWrites struct{ *txn }
)

// Luggage is a file that goes with somebody, or one that was left out.
type Luggage struct {
	luggage.File
	Sealed  []byte // what it holds
	LeftOut string // why the file, as it is now, does not go along; "" where it does
	From    string // the workspace where it was changed last
	TakenAt time.Time
}

// LuggagePaths are what goes with somebody, from their home folder.
func (q luggageReads) LuggagePaths(ctx context.Context, person string) (paths []string, err error) {
	paths, err = one(ctx, q.reader, func(scan func(...any) error) (out []string, err error) {
		var text string
		if err = scan(&text); err != nil {
			return nil, err
		}
		return out, json.Unmarshal([]byte(text), &out)
	}, "SELECT luggage FROM profiles WHERE person_id = ?", person)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return paths, err
}

// Luggage lists somebody's, by path; whole says with what the files hold.
func (q luggageReads) Luggage(ctx context.Context, person string, whole bool) ([]Luggage, error) {
	sealed := "x''"
	if whole {
		sealed = "sealed"
	}
	return list(ctx, q.reader, func(scan func(...any) error) (l Luggage, err error) {
		var changed, taken int64
		err = scan(&l.Path, &l.Mode, &changed, &l.Bytes, &l.Sealed, &l.LeftOut, &l.From, &taken)
		l.ChangedAt, l.TakenAt = fromMicros(changed), fromMicros(taken)
		return l, err
	}, "SELECT path, mode, changed_at, bytes, "+sealed+", left_out, taken_from, taken_at FROM luggage WHERE person_id = ? ORDER BY path", person)
}

// WithLuggage lists the workspaces that are ready and whose owners have luggage.
func (q luggageReads) WithLuggage(ctx context.Context) ([]Workspace, error) {
	return workspacesReads{q.reader}.workspaces(ctx, "phase <> 'removed' AND phase = 'ready' AND kind = 'person' AND owner_id IN (SELECT person_id FROM profiles WHERE luggage <> '[]') ORDER BY name, owner_id")
}

// PutLuggagePaths sets what goes with somebody; of what does not any more nothing is kept.
func (tx luggageWrites) PutLuggagePaths(ctx context.Context, person string, paths []string) error {
	if paths == nil {
		paths = []string{}
	}
	text, err := json.Marshal(paths)
	if err != nil {
		return err
	}
	if err := tx.exec(ctx, `INSERT INTO profiles (person_id, files_url, branch, run, each_start, changed_at, luggage) VALUES (?, '', '', '', 0, ?, ?)
		ON CONFLICT (person_id) DO UPDATE SET luggage = excluded.luggage, changed_at = excluded.changed_at`, person, micros(tx.now), string(text)); err != nil {
		return err
	}
	kept, err := luggageReads{tx.reader}.Luggage(ctx, person, false)
	if err != nil {
		return err
	}
	for _, k := range kept {
		if !luggage.Holds(paths, k.Path) {
			if err := tx.DropLuggage(ctx, person, k.Path); err != nil {
				return err
			}
		}
	}
	return nil
}

// Kept tells whether something of it is kept, be it an older one.
func (l Luggage) Kept() bool { return l.LeftOut == "" || l.Bytes > 0 }

// DropLuggage forgets a file of somebody's.
func (tx luggageWrites) DropLuggage(ctx context.Context, person, path string) error {
	return tx.exec(ctx, "DELETE FROM luggage WHERE person_id = ? AND path = ?", person, path)
}

// LeaveOut notes why a file of somebody's does not go along; what was kept of it before
// is kept.
func (tx luggageWrites) LeaveOut(ctx context.Context, person, path, why, from string) error {
	return tx.exec(ctx, `INSERT INTO luggage (person_id, path, mode, changed_at, bytes, sealed, left_out, taken_from, taken_at) VALUES (?, ?, 0, 0, 0, x'', ?, ?, ?)
		ON CONFLICT (person_id, path) DO UPDATE SET left_out = excluded.left_out, taken_from = excluded.taken_from, taken_at = excluded.taken_at WHERE left_out <> excluded.left_out`,
		person, path, why, from, micros(tx.now))
}

// PutLuggage keeps a file of somebody's, in the place of what was known of it.
func (tx luggageWrites) PutLuggage(ctx context.Context, person string, l Luggage) error {
	return tx.exec(ctx, `INSERT INTO luggage (person_id, path, mode, changed_at, bytes, sealed, left_out, taken_from, taken_at) VALUES (?, ?, ?, ?, ?, ?, '', ?, ?)
		ON CONFLICT (person_id, path) DO UPDATE SET mode = excluded.mode, changed_at = excluded.changed_at, bytes = excluded.bytes, sealed = excluded.sealed, left_out = excluded.left_out, taken_from = excluded.taken_from, taken_at = excluded.taken_at`,
		person, l.Path, l.Mode, micros(l.ChangedAt), l.Bytes, l.Sealed, l.From, micros(tx.now))
}
