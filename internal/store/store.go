// Package store keeps the service's records in SQLite through database/sql:
// migrations, queries and the journal. It knows the core's plain types and
// nothing of yards, stewards or doors.
//
// There is one writer. It groups what waits into one transaction, a savepoint
// for each request, and answers only after the commit. Readers have a pool of
// their own and never wait for it.
package store

import (
	"context"
	"crypto/rand"
	"database/sql"
	"embed"
	"encoding/base32"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pressly/goose/v3"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the open database.
type Store struct {
	writer, readers *sql.DB
	conn            *sql.Conn // the writer's one connection
	written, read   *statements
	path            string
	queue           chan request
	done            chan struct{}
	mu              sync.RWMutex // guards closed: nothing is queued after the end
	closed          bool
	now             func() time.Time
	notify          func()
	known           known // the writer's
	cache           cache
	hooks           Hooks
	watching        Watching
	onGround        func(ids []string)
	dir             string
	changes         changes
	fullAt          atomic.Int64 // when a write first found the disk full, in microseconds; 0: there is room
}

// Q runs queries: inside the writer's transaction, or among the readers. What
// it can be asked is a type a noun.
type Q struct {
	reader
	conditionsReads
	journalReads
	meterReads
	operationsReads
	peopleReads
	guestsReads
	gitKeysReads
	passkeysReads
	luggageReads
	plansReads
	prebuildsReads
	repositoriesReads
	secretsReads
	sheetsReads
	shownReads
	webhooksReads
	providersReads
	linksReads
	directoryReads
	tokensReads
	workspacesReads
}

func queries(r reader) Q {
	return Q{r, conditionsReads{r}, journalReads{r}, meterReads{r}, operationsReads{r}, peopleReads{r}, guestsReads{r}, gitKeysReads{r}, passkeysReads{r}, luggageReads{r}, plansReads{r}, prebuildsReads{r}, repositoriesReads{r}, secretsReads{r}, sheetsReads{r}, shownReads{r}, webhooksReads{r}, providersReads{r}, linksReads{r}, directoryReads{r}, tokensReads{r}, workspacesReads{r}}
}

// reader is what all queries are asked with.
type reader struct {
	db *statements
	// cache is what readers need not read; nil inside a transaction, which may
	// have changed it.
	cache *cache
}

type querier interface {
	ExecContext(context.Context, string, ...any) (sql.Result, error)
	QueryContext(context.Context, string, ...any) (*sql.Rows, error)
	QueryRowContext(context.Context, string, ...any) *sql.Row
}

// Open opens the database file at path, creating and migrating it as needed.
// now is the clock. Close ends it.
func Open(ctx context.Context, path string, now func() time.Time) (*Store, error) {
	dsn := func(extra string) string {
		return "file:" + (&url.URL{Path: path}).EscapedPath() +
			"?_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(ON)" + extra
	}
	// Whoever copies the file has all that is in it: it is for its owner alone.
	// What SQLite puts beside it has the same mode.
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err == nil {
		err = errors.Join(f.Chmod(0o600), f.Close())
	}
	if err != nil {
		return nil, fmt.Errorf("open the records: %w", err)
	}
	writer, err := sql.Open("sqlite", dsn("&_txlock=immediate"))
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	writer.SetMaxOpenConns(1)
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	if err := migrate(ctx, writer, sub, path); err != nil {
		writer.Close()
		return nil, fmt.Errorf("records %s: %w", path, err)
	}
	readers, err := sql.Open("sqlite", dsn("&_pragma=query_only(ON)"))
	if err != nil {
		writer.Close()
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	readers.SetMaxOpenConns(8)
	conn, err := writer.Conn(ctx)
	if err != nil {
		readers.Close()
		writer.Close()
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	s := &Store{path: path, dir: filepath.Dir(path), writer: writer, readers: readers, conn: conn, written: &statements{on: conn, whole: true, plans: &plans{}}, read: &statements{on: readers}, queue: make(chan request, queueLength), done: make(chan struct{}), now: now, notify: func() {}}
	s.read.plans = s.written.plans
	s.cache.forget()
	go s.write()
	return s, nil
}

// migrate brings the records to this release's form. Records of a newer one are
// refused: nobody here knows what is in them. Before older ones are changed a
// copy is left beside them.
func migrate(ctx context.Context, db *sql.DB, from fs.FS, path string) error {
	provider, err := goose.NewProvider(goose.DialectSQLite3, db, from)
	if err != nil {
		return err
	}
	is, err := provider.GetDBVersion(ctx)
	if err != nil {
		return err
	}
	sources := provider.ListSources()
	newest := sources[len(sources)-1].Version
	switch {
	case is > newest:
		return fmt.Errorf("they are in form %d and this release knows form %d at most: a newer release has written them. Start that one, or go back to the copy it left beside them before it changed them (%s.form-%d)", is, newest, filepath.Base(path), newest)
	case is == newest:
		return nil
	case is > 0:
		copied := fmt.Sprintf("%s.form-%d", path, is)
		if err := os.Remove(copied); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err := copyInto(ctx, db, copied); err != nil {
			return fmt.Errorf("copy them to %s before they are changed: %w", copied, err)
		}
	}
	_, err = provider.Up(ctx)
	return err
}

// OnJournal sets what is called after a commit that added to the journal. It
// must be set before the first write and must not block.
func (s *Store) OnJournal(f func()) { s.notify = f }

// Close waits for what is queued and closes the database.
func (s *Store) Close() error {
	s.mu.Lock()
	if s.closed {
		s.mu.Unlock()
		return nil
	}
	s.closed = true
	close(s.queue)
	s.mu.Unlock()
	<-s.done
	s.read.close()
	s.written.close()
	return errors.Join(s.readers.Close(), s.conn.Close(), s.writer.Close())
}

// Read gives the readers' queries.
func (s *Store) Read() Q { return queries(reader{s.read, &s.cache}) }

// NewID makes a random identifier: 80 bits in lower-case base 32.
func NewID() string {
	var b [10]byte
	_, _ = rand.Read(b[:]) // never fails, by its documentation
	return strings.ToLower(base32.StdEncoding.EncodeToString(b[:]))
}

// Meta reads one value of the installation's own table; "" when it is not set.
func (q reader) Meta(ctx context.Context, key string) (string, error) {
	var v string
	err := q.db.QueryRowContext(ctx, "SELECT value FROM meta WHERE key = ?", key).Scan(&v)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return v, err
}

// SetMeta writes one value of the installation's own table.
func (tx *txn) SetMeta(ctx context.Context, key, value string) error {
	return tx.exec(ctx, "INSERT INTO meta (key, value) VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value", key, value)
}

func (q reader) exec(ctx context.Context, query string, args ...any) error {
	_, err := q.db.ExecContext(ctx, query, args...)
	return err
}

// list runs a query and scans every row.
func list[T any](ctx context.Context, q reader, scan func(func(...any) error) (T, error), query string, args ...any) ([]T, error) {
	rows, err := q.db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []T{}
	for rows.Next() {
		v, err := scan(rows.Scan)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, q.db.seen(rows.Err())
}

// one is list for a query of one row; ErrNotFound when there is none.
func one[T any](ctx context.Context, q reader, scan func(func(...any) error) (T, error), query string, args ...any) (T, error) {
	v, err := scan(q.db.QueryRowContext(ctx, query, args...).Scan)
	if errors.Is(err, sql.ErrNoRows) {
		return v, ErrNotFound
	}
	return v, q.db.seen(err)
}

func micros(t time.Time) int64 { return t.UnixMicro() }

func fromMicros(n int64) time.Time { return time.UnixMicro(n).UTC() }

func fromNullMicros(n sql.NullInt64) *time.Time {
	if !n.Valid {
		return nil
	}
	t := fromMicros(n.Int64)
	return &t
}

// prefixed puts a table's alias before each column of a list.
func prefixed(alias, columns string) string {
	cols := strings.Split(columns, ",")
	for i, c := range cols {
		cols[i] = alias + "." + strings.TrimSpace(c)
	}
	return strings.Join(cols, ", ")
}

// mustChange runs a statement that has to touch a row; ErrNotFound otherwise.
func (q reader) mustChange(ctx context.Context, query string, args ...any) error {
	res, err := q.db.ExecContext(ctx, query, args...)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return ErrNotFound
}
