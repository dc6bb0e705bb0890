package store

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"yardbench/internal/core/journal"
)

type journalReads struct{ reader }

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
func (tx *txn) Journal(ctx context.Context, subject, owner, actor string, what journal.Payload) error {
	kind := what.Kind()
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
	}{e, what})
	if err != nil {
		return fmt.Errorf("journal %s: %w", kind, err)
	}
	if tx.entries++; tx.entries == 1 {
		tx.subject = subject
	}
	tx.entryAt = e.At
	said := Said{Kind: kind}
	if p, is := what.(journal.WorkspacePhase); is {
		said.Phase = p.To
	}
	tx.said = append(tx.said, said)
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
func (q journalReads) JournalHead(ctx context.Context) (int64, error) {
	var n int64
	err := q.db.QueryRowContext(ctx, "SELECT COALESCE(MAX(number), 0) FROM journal").Scan(&n)
	return n, err
}

// NewestEntryAt is when the newest entry was written; the zero time when there is none.
func (q journalReads) NewestEntryAt(ctx context.Context) (at time.Time, err error) {
	var n int64
	err = q.db.QueryRowContext(ctx, "SELECT COALESCE((SELECT at FROM journal ORDER BY number DESC LIMIT 1), 0)").Scan(&n)
	if n != 0 {
		at = fromMicros(n)
	}
	return at, err
}

// JournalFilter says which entries are wanted; empty fields do not count.
type JournalFilter struct {
	After   int64
	Before  int64     // 0 is no bound
	Newest  bool      // the newest first
	Of      Scope     // whose matter it is
	By      string    // beside those: what this person did, whosever matter it is
	Subject string    // what it happened to
	Person  string    // whose matter it is, or who did it
	Kind    string    // what the kind begins with
	From    time.Time // not before
	To      time.Time // before
	Limit   int
}

// Journal lists the wanted entries, the oldest first unless the newest are wanted.
func (q journalReads) Journal(ctx context.Context, f JournalFilter) ([]Entry, error) {
	where, args, none, err := q.journalWhere(ctx, f)
	if err != nil || none {
		return []Entry{}, err
	}
	order := " ORDER BY number ASC LIMIT ?"
	if f.Newest {
		order = " ORDER BY number DESC LIMIT ?"
	}
	// Somebody's matters, and what somebody did: each by its index, then together.
	type way struct {
		where string
		args  []any
	}
	scope, of := f.Of.where()
	ways := []way{{scope, of}}
	if f.By != "" && !f.Of.Whole() {
		ways = append(ways, way{" AND actor = ?", []any{f.By}})
	}
	if f.Person != "" {
		var each []way
		for _, w := range ways {
			for _, of := range []string{" AND owner_id = ?", " AND actor = ?"} {
				each = append(each, way{w.where + of, append(slices.Clone(w.args), f.Person)})
			}
		}
		ways = each
	}
	var both []Entry
	for _, w := range ways {
		part, err := list(ctx, q.reader, scanEntry, "SELECT body FROM journal WHERE "+where+w.where+order, append(append(slices.Clone(args), w.args...), f.Limit)...)
		if err != nil {
			return nil, err
		}
		if len(ways) == 1 {
			return part, nil
		}
		both = append(both, part...)
	}
	slices.SortFunc(both, func(a, b Entry) int {
		if f.Newest {
			a, b = b, a
		}
		return cmp.Compare(a.Number, b.Number)
	})
	both = slices.CompactFunc(both, func(a, b Entry) bool { return a.Number == b.Number })
	return both[:min(len(both), f.Limit)], nil
}

// journalWhere is a filter in words for which there are indexes, but for whose matter
// it is and who did it. none tells that nothing can fit.
func (q journalReads) journalWhere(ctx context.Context, f JournalFilter) (where string, args []any, none bool, err error) {
	after, before := f.After, f.Before
	if before <= 0 {
		before = math.MaxInt64
	}
	// Times go up with the numbers.
	for _, bound := range []struct {
		at time.Time
		to *int64
	}{{f.From, &after}, {f.To, &before}} {
		if bound.at.IsZero() {
			continue
		}
		var n sql.NullInt64
		if err := q.db.QueryRowContext(ctx, "SELECT MIN(number) FROM journal WHERE at = (SELECT at FROM journal WHERE at >= ? ORDER BY at LIMIT 1)", micros(bound.at)).Scan(&n); err != nil {
			return "", nil, false, err
		}
		switch {
		case bound.to == &after && !n.Valid:
			return "", nil, true, nil // nothing is as new
		case bound.to == &after:
			after = max(after, n.Int64-1)
		case n.Valid:
			before = min(before, n.Int64)
		}
	}
	where, args = "number > ? AND number < ?", []any{after, before}
	if f.Subject != "" {
		where, args = where+" AND subject = ?", append(args, f.Subject)
	}
	if f.Kind != "" {
		kinds, err := q.kinds(ctx, f.Kind)
		if err != nil || len(kinds) == 0 {
			return "", nil, true, err
		}
		where += " AND kind IN (?" + strings.Repeat(", ?", len(kinds)-1) + ")"
		args = append(args, kinds...)
	}
	return where, args, false, nil
}

// kinds lists the kinds of entry that there are and that begin so: with a step
// of the index for each.
func (q journalReads) kinds(ctx context.Context, beginning string) ([]any, error) {
	return list(ctx, q.reader, func(scan func(...any) error) (any, error) {
		var k string
		err := scan(&k)
		return k, err
	}, `WITH RECURSIVE k(kind) AS (SELECT MIN(kind) FROM journal WHERE kind >= ?1 UNION ALL SELECT (SELECT MIN(kind) FROM journal WHERE kind > k.kind) FROM k WHERE k.kind IS NOT NULL AND SUBSTR(k.kind, 1, LENGTH(?1)) = ?1)
		SELECT kind FROM k WHERE kind IS NOT NULL AND SUBSTR(kind, 1, LENGTH(?1)) = ?1`, beginning)
}

func scanEntry(scan func(...any) error) (Entry, error) {
	var body []byte
	var e Entry
	if err := scan(&body); err != nil {
		return e, err
	}
	return e, json.Unmarshal(body, &e)
}

// JournalAfter lists at most limit entries after number, oldest first; for
// one owner only unless owner is empty, and of one subject only unless
// subject is empty.
func (q journalReads) JournalAfter(ctx context.Context, number int64, owner, subject string, limit int) ([]Entry, error) {
	return q.Journal(ctx, JournalFilter{After: number, Of: Scope{OwnerID: owner}, Subject: subject, Limit: limit})
}

// VerifyJournal walks the whole chain and tells the first entry that does not
// fit: one that was changed, cut out, or put in.
func (q journalReads) VerifyJournal(ctx context.Context) error {
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
