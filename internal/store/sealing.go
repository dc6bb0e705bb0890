package store

import (
	"context"
	"fmt"
	"strings"
)

// Column is where sealed values stand, and what each is bound to: a word, and what
// its row has in Keys, in that order.
type Column struct {
	Table, Name string
	Bound       string
	Keys        []string
}

// SealedColumns are all of them, but for answers that are kept for a day (asked), and
// what is sealed in the installation's own table.
var SealedColumns = []Column{
	{"secrets", "sealed", "secret", []string{"level", "subject_id", "name", "version"}},
	{"git_credentials", "sealed", "git", []string{"person_id", "host"}},
	{"git_credentials", "refresh", "git-refresh", []string{"person_id", "host"}},
	{"git_keys", "sealed", "git-key", []string{"person_id"}},
	{"luggage", "sealed", "luggage", []string{"person_id", "path"}},
	{"git_hosts", "secret", "git-host", []string{"host"}},
	{"providers", "secret", "provider", []string{"id"}},
	{"repositories", "push_key", "push", []string{"id"}},
	{"repositories", "read_sealed", "read", []string{"id"}},
	{"webhooks", "key", "webhook", []string{"id"}},
	{"workspaces", "steward_token", "steward", []string{"id"}},
}

// SealedValue is one, and what it is bound to.
type SealedValue struct {
	Row    int64
	Where  []string
	Sealed []byte
}

// SealedAfter lists values of a column, in the order of their rows, from behind one.
func (q gitKeysReads) SealedAfter(ctx context.Context, c Column, row int64, most int) ([]SealedValue, error) {
	query := fmt.Sprintf("SELECT rowid, %s, %s FROM %s WHERE rowid > ? ORDER BY rowid LIMIT ?", c.Name, strings.Join(c.Keys, ", "), c.Table)
	return list(ctx, q.reader, func(scan func(...any) error) (v SealedValue, err error) {
		keys := make([]string, len(c.Keys))
		into := []any{&v.Row, &v.Sealed}
		for i := range keys {
			into = append(into, &keys[i])
		}
		err = scan(into...)
		v.Where = append([]string{c.Bound}, keys...)
		return v, err
	}, query, row, most)
}

// Reseal writes a value that was sealed anew, where it is still as it was.
func (tx gitKeysWrites) Reseal(ctx context.Context, c Column, was SealedValue, anew []byte) error {
	tx.cached()
	return tx.exec(ctx, fmt.Sprintf("UPDATE %s SET %s = ? WHERE rowid = ? AND %s = ?", c.Table, c.Name, c.Name), anew, was.Row, was.Sealed)
}
