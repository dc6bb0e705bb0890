package store

import (
	"context"
	"time"
)

// Taste is something that somebody likes, under a name of the program that keeps it.
type Taste struct {
	Name  string
	Value string // JSON
	At    time.Time
}

// TastesMost bounds what is kept for one person: what was not written for longest goes.
const TastesMost = 300

// PutTaste puts something under its name.
func (tx peopleWrites) PutTaste(ctx context.Context, person string, k Taste) error {
	if err := tx.exec(ctx, `INSERT INTO kept (person_id, name, value, at) VALUES (?, ?, ?, ?)
		ON CONFLICT (person_id, name) DO UPDATE SET value = excluded.value, at = excluded.at`, person, k.Name, k.Value, micros(tx.now)); err != nil {
		return err
	}
	return tx.exec(ctx, "DELETE FROM kept WHERE person_id = ?1 AND name IN (SELECT name FROM kept WHERE person_id = ?1 ORDER BY at DESC, name LIMIT -1 OFFSET ?2)", person, TastesMost)
}

// DropTaste forgets what is under a name. [ErrNotFound] where nothing is.
func (tx peopleWrites) DropTaste(ctx context.Context, person, name string) error {
	return tx.mustChange(ctx, "DELETE FROM kept WHERE person_id = ? AND name = ?", person, name)
}

// TastesOf lists what is kept for somebody, by name.
func (q peopleReads) TastesOf(ctx context.Context, person string) ([]Taste, error) {
	return list(ctx, q.reader, func(scan func(...any) error) (k Taste, err error) {
		var at int64
		err = scan(&k.Name, &k.Value, &at)
		k.At = fromMicros(at)
		return k, err
	}, "SELECT name, value, at FROM kept WHERE person_id = ? ORDER BY name", person)
}
