package store

import (
	"context"
	"time"
)

// Asked is what somebody asked for with a key of their own.
type Asked struct {
	PersonID, Key string
	What          []byte // tells apart what was asked
	Subject       string // of the first journal entry that came of it; may be empty
	At            time.Time
	Answer        []byte // sealed; nil while it is under way, or was lost
}

// AskedKept is how long it is known what was asked with a key.
const AskedKept = 24 * time.Hour

type onceKey struct{}

type once struct {
	Asked
	written bool
}

// Once has the first write with the context that goes well note what was asked,
// in the same transaction: what it changes and that it was asked for stand
// together or not at all. Where the key was used before, that write fails with an
// error for which [IsDuplicate] holds.
func Once(ctx context.Context, a Asked) context.Context {
	return context.WithValue(ctx, onceKey{}, &once{Asked: a})
}

// onceOf is what [Once] said and no write has noted yet.
func onceOf(ctx context.Context) *once {
	if o, ok := ctx.Value(onceKey{}).(*once); ok && !o.written {
		return o
	}
	return nil
}

// note notes what was asked, and forgets what was asked long ago.
func (o *once) note(tx *Tx) error {
	ctx := context.Background()
	if err := tx.exec(ctx, "DELETE FROM asked WHERE at < ?", micros(tx.now.Add(-AskedKept))); err != nil {
		return err
	}
	return tx.exec(ctx, "INSERT INTO asked (person_id, key, what, subject, at) VALUES (?, ?, ?, ?, ?)", o.PersonID, o.Key, o.What, tx.subject, micros(tx.now))
}

// Answered keeps the answer of what was asked with a key.
func (tx peopleWrites) Answered(ctx context.Context, person, key string, answer []byte) error {
	return tx.exec(ctx, "UPDATE asked SET answer = ? WHERE person_id = ? AND key = ?", answer, person, key)
}

// AskedWith finds what a person asked with a key, not long before now.
func (q peopleReads) AskedWith(ctx context.Context, person, key string, now time.Time) (Asked, error) {
	return one(ctx, q.reader, func(scan func(...any) error) (a Asked, err error) {
		var at int64
		err = scan(&a.PersonID, &a.Key, &a.What, &a.Subject, &at, &a.Answer)
		a.At = fromMicros(at)
		return a, err
	}, "SELECT person_id, key, what, subject, at, answer FROM asked WHERE person_id = ? AND key = ? AND at >= ?", person, key, micros(now.Add(-AskedKept)))
}
