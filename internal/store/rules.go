package store

import (
	"context"
	"time"
)

// House is the ground of what stands on the house rules alone; see [Store.OnGround].
const House = "house rules"

// RulesVersion is one version of the house rules.
type RulesVersion struct {
	Version          int
	Document         string
	AuthorID, Reason string
	At               time.Time
}

func scanRules(scan func(...any) error) (r RulesVersion, err error) {
	var at int64
	err = scan(&r.Version, &r.Document, &r.AuthorID, &r.Reason, &at)
	r.At = fromMicros(at)
	return r, err
}

// AddRules makes a document the newest version, and gives its number.
func (tx repositoriesWrites) AddRules(ctx context.Context, r RulesVersion) (version int, err error) {
	tx.touchAll()
	tx.cached()
	tx.shift(House)
	if err := tx.db.QueryRowContext(ctx, "SELECT COALESCE(MAX(version), 0) + 1 FROM rules").Scan(&version); err != nil {
		return 0, err
	}
	return version, tx.exec(ctx, "INSERT INTO rules (version, document, author_id, reason, at) VALUES (?, ?, ?, ?, ?)", version, r.Document, r.AuthorID, r.Reason, micros(tx.now))
}

// RulesVersions lists all versions, oldest first.
func (q repositoriesReads) RulesVersions(ctx context.Context) ([]RulesVersion, error) {
	return list(ctx, q.reader, scanRules, "SELECT version, document, author_id, reason, at FROM rules ORDER BY version")
}

// Rules is the version in force.
func (q repositoriesReads) Rules(ctx context.Context) (RulesVersion, error) {
	return cached(q.reader, "rules", func() (RulesVersion, error) {
		return one(ctx, q.reader, scanRules, "SELECT version, document, author_id, reason, at FROM rules ORDER BY version DESC LIMIT 1")
	})
}
