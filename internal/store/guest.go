package store

import (
	"context"
	"encoding/json"
	"time"
)

type (
	guestsReads  struct{ reader }
	guestsWrites struct{ *txn }
)

// Guest is what the access of somebody is for that ends by itself.
type Guest struct {
	Until        time.Time `json:"until"`
	Repositories []string  `json:"repositories"` // the ids of those they may work in
	Sizes        []string  `json:"sizes"`        // those they may have; none is every size
	By           string    `json:"by"`           // the id of who brought them in, or changed it last
}

// PutGuest has somebody's access end by itself, and be for some repositories and sizes.
func (tx guestsWrites) PutGuest(ctx context.Context, person string, g Guest) error {
	repositories, err := json.Marshal(append([]string{}, g.Repositories...))
	if err != nil {
		return err
	}
	sizes, err := json.Marshal(append([]string{}, g.Sizes...))
	if err != nil {
		return err
	}
	tx.touchAll()
	tx.shift(person)
	return tx.exec(ctx, `INSERT INTO guests (person_id, until, repositories, sizes, by_id) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (person_id) DO UPDATE SET until = excluded.until, repositories = excluded.repositories, sizes = excluded.sizes, by_id = excluded.by_id, told = 0`,
		person, micros(g.Until), string(repositories), string(sizes), g.By)
}

// GuestTold notes that it was told that a guest's access ends soon; it tells whether
// it was not before.
func (tx guestsWrites) GuestTold(ctx context.Context, person string) (bool, error) {
	r, err := tx.db.ExecContext(ctx, "UPDATE guests SET told = 1 WHERE person_id = ? AND told = 0", person)
	if err != nil {
		return false, err
	}
	n, err := r.RowsAffected()
	return n > 0, err
}

// Guests lists those whose access ends by itself, and is open, by name.
func (q guestsReads) Guests(ctx context.Context) ([]Person, error) {
	return list(ctx, q.reader, scanPerson, personQuery+"WHERE g.person_id IS NOT NULL AND p.closed_at IS NULL ORDER BY p.name")
}
