package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"
)

type (
	webhooksReads  struct{ reader }
	webhooksWrites struct{ *txn }
)

// Webhook is an address that is told of journal entries.
type Webhook struct {
	ID, URL      string
	Kinds        []string
	Key          []byte // sealed
	MadeBy       string
	CreatedAt    time.Time
	Cursor       int64
	FailingSince *time.Time
	Problem      string
	PausedAt     *time.Time // nothing is sent since
}

// Delivery is one attempt to tell a webhook of an entry.
type Delivery struct {
	Entry   int64 // 0 is a test
	After   int64 // the cursor that it was sent from
	Attempt int
	At      time.Time
	Took    time.Duration
	Status  int
	Problem string
}

// KeptDeliveries bounds the log of one webhook.
const KeptDeliveries = 200

const webhookColumns = "id, url, kinds, key, made_by, created_at, cursor, failing_since, problem, paused_at"

func scanWebhook(scan func(...any) error) (w Webhook, err error) {
	var kinds string
	var at int64
	var failing, paused sql.NullInt64
	if err = scan(&w.ID, &w.URL, &kinds, &w.Key, &w.MadeBy, &at, &w.Cursor, &failing, &w.Problem, &paused); err != nil {
		return w, err
	}
	w.CreatedAt = fromMicros(at)
	if failing.Valid {
		since := fromMicros(failing.Int64)
		w.FailingSince = &since
	}
	if paused.Valid {
		since := fromMicros(paused.Int64)
		w.PausedAt = &since
	}
	return w, json.Unmarshal([]byte(kinds), &w.Kinds)
}

// AddWebhook adds a webhook; it is told of what comes after its cursor.
func (tx webhooksWrites) AddWebhook(ctx context.Context, w Webhook) error {
	kinds, err := json.Marshal(append([]string{}, w.Kinds...))
	if err != nil {
		return err
	}
	return tx.exec(ctx, "INSERT INTO webhooks ("+webhookColumns+") VALUES (?, ?, ?, ?, ?, ?, ?, NULL, '', NULL)", w.ID, w.URL, string(kinds), w.Key, w.MadeBy, micros(tx.now), w.Cursor)
}

// DropWebhook removes one with its log.
func (tx webhooksWrites) DropWebhook(ctx context.Context, id string) error {
	return tx.mustChange(ctx, "DELETE FROM webhooks WHERE id = ?", id)
}

// Webhooks lists them, the oldest first.
func (q webhooksReads) Webhooks(ctx context.Context) ([]Webhook, error) {
	return list(ctx, q.reader, scanWebhook, "SELECT "+webhookColumns+" FROM webhooks ORDER BY created_at, id")
}

// WebhookByID finds one.
func (q webhooksReads) WebhookByID(ctx context.Context, id string) (Webhook, error) {
	return one(ctx, q.reader, scanWebhook, "SELECT "+webhookColumns+" FROM webhooks WHERE id = ?", id)
}

// ChangeWebhook writes a webhook's address, kinds and pause. What was wrong with
// another address, or before a pause, is forgotten.
func (tx webhooksWrites) ChangeWebhook(ctx context.Context, w Webhook) error {
	kinds, err := json.Marshal(append([]string{}, w.Kinds...))
	if err != nil {
		return err
	}
	var paused any
	if w.PausedAt != nil {
		paused = micros(*w.PausedAt)
	}
	return tx.mustChange(ctx, "UPDATE webhooks SET url = ?, kinds = ?, paused_at = ?, failing_since = NULL, problem = '' WHERE id = ?", w.URL, string(kinds), paused, w.ID)
}

// SetWebhookKey gives a webhook another key.
func (tx webhooksWrites) SetWebhookKey(ctx context.Context, id string, sealed []byte) error {
	return tx.mustChange(ctx, "UPDATE webhooks SET key = ? WHERE id = ?", sealed, id)
}

// SetWebhookCursor has a webhook told of what comes after an entry, whether it was
// told before or not.
func (tx webhooksWrites) SetWebhookCursor(ctx context.Context, id string, cursor int64) error {
	return tx.mustChange(ctx, "UPDATE webhooks SET cursor = ? WHERE id = ?", cursor, id)
}

// PassWebhook moves a webhook's cursor over entries that it does not want, unless
// it was moved meanwhile.
func (tx webhooksWrites) PassWebhook(ctx context.Context, id string, from, to int64) error {
	return tx.exec(ctx, "UPDATE webhooks SET cursor = ? WHERE id = ? AND cursor = ?", to, id, from)
}

// Delivered writes how an attempt went. One that went well moves the cursor,
// in the same transaction, unless it was moved meanwhile; one that did not leaves it.
func (tx webhooksWrites) Delivered(ctx context.Context, id string, d Delivery) error {
	if err := tx.exec(ctx, "INSERT INTO deliveries (webhook_id, entry, attempt, at, took_ms, status, problem) VALUES (?, ?, ?, ?, ?, ?, ?)",
		id, d.Entry, d.Attempt, micros(tx.now), d.Took.Milliseconds(), d.Status, d.Problem); err != nil {
		return err
	}
	if err := tx.exec(ctx, "DELETE FROM deliveries WHERE webhook_id = ?1 AND id <= (SELECT id FROM deliveries WHERE webhook_id = ?1 ORDER BY id DESC LIMIT 1 OFFSET ?2)", id, KeptDeliveries); err != nil {
		return err
	}
	switch {
	case d.Entry == 0:
		return nil
	case d.Problem == "":
		return tx.exec(ctx, "UPDATE webhooks SET cursor = ?, failing_since = NULL, problem = '' WHERE id = ? AND cursor = ?", d.Entry, id, d.After)
	}
	return tx.exec(ctx, "UPDATE webhooks SET failing_since = COALESCE(failing_since, ?), problem = ? WHERE id = ? AND paused_at IS NULL", micros(tx.now), d.Problem, id)
}

// Deliveries is a webhook's log, the newest first.
func (q webhooksReads) Deliveries(ctx context.Context, webhook string) ([]Delivery, error) {
	return list(ctx, q.reader, func(scan func(...any) error) (d Delivery, err error) {
		var at, took int64
		err = scan(&d.Entry, &d.Attempt, &at, &took, &d.Status, &d.Problem)
		d.At, d.Took = fromMicros(at), time.Duration(took)*time.Millisecond
		return d, err
	}, "SELECT entry, attempt, at, took_ms, status, problem FROM deliveries WHERE webhook_id = ? ORDER BY id DESC", webhook)
}

// HashAt is the hash of a journal entry; ok is false where there is none.
func (q journalReads) HashAt(ctx context.Context, number int64) (hash []byte, ok bool, err error) {
	err = q.db.QueryRowContext(ctx, "SELECT hash FROM journal WHERE number = ?", number).Scan(&hash)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, false, nil
	}
	return hash, err == nil, err
}
