package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"time"
)

// Entry is one line of the journal.
type Entry struct {
	Number  int64           `json:"number"`
	At      time.Time       `json:"at"`
	Kind    string          `json:"kind"`    // what happened, such as workspace.phase
	Subject string          `json:"subject"` // the id of what it happened to
	OwnerID string          `json:"owner"`   // whose matter it is
	Actor   string          `json:"actor"`   // the id of who did it; "service" when nobody asked
	Data    json.RawMessage `json:"data"`    // details, by kind; never a secret
}

// Journal appends an entry in the transaction of what it tells of. Its time
// never runs before the entry before it.
func (tx *Tx) Journal(ctx context.Context, kind, subject, owner, actor string, data any) error {
	last := tx.known.head
	tx.known.head = head{} // until this one stands
	if last.number == 0 {
		err := tx.db.QueryRowContext(ctx, "SELECT number, at, hash FROM journal ORDER BY number DESC LIMIT 1").Scan(&last.number, &last.at, &last.hash)
		if errors.Is(err, sql.ErrNoRows) {
			last.hash = make([]byte, sha256.Size)
		} else if err != nil {
			return err
		}
	}
	e := Entry{Number: last.number + 1, At: tx.now}
	if micros(e.At) < last.at {
		e.At = fromMicros(last.at)
	}
	e.Kind, e.Subject, e.OwnerID, e.Actor = kind, subject, owner, actor
	body, err := json.Marshal(struct {
		Entry
		Data any `json:"data"`
	}{e, data})
	if err != nil {
		return fmt.Errorf("journal %s: %w", kind, err)
	}
	tx.entries++
	tx.entryAt = e.At
	hash := chain(last.hash, body)
	if err := tx.exec(ctx, "INSERT INTO journal (number, at, kind, subject, owner_id, body, prev_hash, hash) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
		e.Number, micros(e.At), kind, subject, owner, body, last.hash, hash); err != nil {
		return err
	}
	tx.known.head = head{e.Number, micros(e.At), hash}
	return nil
}

func chain(prev, body []byte) []byte {
	h := sha256.New()
	h.Write(prev)
	h.Write(body)
	return h.Sum(nil)
}

// JournalHead is the number of the newest entry; 0 when there is none.
func (q Q) JournalHead(ctx context.Context) (int64, error) {
	var n int64
	err := q.db.QueryRowContext(ctx, "SELECT COALESCE(MAX(number), 0) FROM journal").Scan(&n)
	return n, err
}

// JournalFilter says which entries are wanted; empty fields do not count.
type JournalFilter struct {
	After   int64
	Newest  bool      // the newest first
	Owner   string    // whose matter it is
	Subject string    // what it happened to
	Person  string    // whose matter it is, or who did it
	Kind    string    // what the kind begins with
	From    time.Time // not before
	To      time.Time // before
	Limit   int
}

// Journal lists the wanted entries, the oldest first unless the newest are wanted.
func (q Q) Journal(ctx context.Context, f JournalFilter) ([]Entry, error) {
	order := "ASC"
	if f.Newest {
		order = "DESC"
	}
	return list(ctx, q, func(scan func(...any) error) (Entry, error) {
		var body []byte
		var e Entry
		if err := scan(&body); err != nil {
			return e, err
		}
		return e, json.Unmarshal(body, &e)
	}, `SELECT body FROM journal WHERE number > ? AND (? = '' OR owner_id = ?) AND (? = '' OR subject = ?)
		AND (? = '' OR owner_id = ? OR CAST(body AS TEXT) ->> 'actor' = ?) AND (? = '' OR SUBSTR(kind, 1, LENGTH(?)) = ?) AND at >= ? AND at < ? ORDER BY number `+order+` LIMIT ?`,
		f.After, f.Owner, f.Owner, f.Subject, f.Subject, f.Person, f.Person, f.Person, f.Kind, f.Kind, f.Kind, bound(f.From, 0), bound(f.To, math.MaxInt64), f.Limit)
}

// bound is a time as it is stored, or else where there is none.
func bound(t time.Time, none int64) int64 {
	if t.IsZero() {
		return none
	}
	return micros(t)
}

// JournalAfter lists at most limit entries after number, oldest first; for
// one owner only unless owner is empty, and of one subject only unless
// subject is empty.
func (q Q) JournalAfter(ctx context.Context, number int64, owner, subject string, limit int) ([]Entry, error) {
	return q.Journal(ctx, JournalFilter{After: number, Owner: owner, Subject: subject, Limit: limit})
}

// VerifyJournal walks the whole chain and tells the first entry that does not
// fit: one that was changed, cut out, or put in.
func (q Q) VerifyJournal(ctx context.Context) error {
	rows, err := q.db.QueryContext(ctx, "SELECT number, at, kind, subject, owner_id, body, prev_hash, hash FROM journal ORDER BY number")
	if err != nil {
		return err
	}
	defer rows.Close()
	prev, next := make([]byte, sha256.Size), int64(1)
	for rows.Next() {
		var row, e Entry
		var at int64
		var body, ph, h []byte
		if err := rows.Scan(&row.Number, &at, &row.Kind, &row.Subject, &row.OwnerID, &body, &ph, &h); err != nil {
			return err
		}
		if err := json.Unmarshal(body, &e); err != nil {
			return fmt.Errorf("journal entry %d: %w", row.Number, err)
		}
		same := e.Number == row.Number && micros(e.At) == at && e.Kind == row.Kind && e.Subject == row.Subject && e.OwnerID == row.OwnerID
		if row.Number != next || !bytes.Equal(ph, prev) || !bytes.Equal(h, chain(prev, body)) || !same {
			return fmt.Errorf("journal entry %d does not fit the one before it: the journal was changed", row.Number)
		}
		prev, next = h, next+1
	}
	return rows.Err()
}
