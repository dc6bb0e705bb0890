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
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver "sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Bounds of the writer.
const (
	// queueLength bounds the requests that wait for the writer; one more is refused.
	queueLength = 4096
	// groupSize bounds the requests of one commit, so that nobody waits long.
	groupSize = 128
)

// ErrNotFound says that a row does not exist.
var ErrNotFound = errors.New("not found")

// ErrBusy says that the writer's queue is full.
var ErrBusy = errors.New("the service has more to write than it can: try again in a moment")

// ErrFull says that the disk with the records is full.
var ErrFull = errors.New("the service's disk is full: nothing can be written")

// ErrClosed says that the service is ending.
var ErrClosed = errors.New("the service is ending")

// Store is the open database.
type Store struct {
	writer, readers *sql.DB
	conn            *sql.Conn // the writer's one connection
	written, read   *statements
	queue           chan request
	done            chan struct{}
	mu              sync.RWMutex // guards closed: nothing is queued after the end
	closed          bool
	now             func() time.Time
	notify          func()
	known           known // the writer's
	memory          memory
	guard           func(commit func() error) error
	fullAt          atomic.Int64 // when a write first found the disk full, in microseconds; 0: the last one did not
}

type request struct {
	ctx context.Context
	do  func(*Tx) error
	end chan error
}

// Tx is one request's part of a transaction of the writer.
type Tx struct {
	Q
	now     time.Time
	entries int
	entryAt time.Time // of the newest journal entry
	known   *known    // the store's, as of this request
}

// known is what the writer, as the only one who writes, need not read again.
type known struct {
	lowest int // below it every subnet is taken, by us or by others
	head   head
}

// head is the newest entry of the journal; number 0 is not known.
type head struct {
	number, at int64
	hash       []byte
}

// Now is the time of the transaction.
func (tx *Tx) Now() time.Time { return tx.now }

// At moves the transaction to another time: a past is written so.
func (tx *Tx) At(t time.Time) { tx.now = t.UTC().Truncate(time.Microsecond) }

// Q runs queries: inside the writer's transaction, or among the readers.
type Q struct {
	db querier
	// memory is what readers need not read; nil inside a transaction, which may
	// have changed it.
	memory *memory
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
	writer, err := sql.Open("sqlite", dsn("&_txlock=immediate"))
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	writer.SetMaxOpenConns(1)
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, writer, sub)
	if err == nil {
		_, err = provider.Up(ctx)
	}
	if err != nil {
		writer.Close()
		return nil, fmt.Errorf("migrate %s: %w", path, err)
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
	s := &Store{writer: writer, readers: readers, conn: conn, written: &statements{on: conn, whole: true}, read: &statements{on: readers}, queue: make(chan request, queueLength), done: make(chan struct{}), now: now, notify: func() {}}
	s.memory.forget()
	s.written.memory = &s.memory
	go s.write()
	return s, nil
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
func (s *Store) Read() Q { return Q{s.read, &s.memory} }

// Write runs do in the writer's transaction. When do fails, what it did is
// undone and its error returned; otherwise Write returns after the commit.
// do must not touch yard, network or files: everybody waits for it.
func (s *Store) Write(ctx context.Context, do func(*Tx) error) error {
	if s.guard != nil {
		return s.guard(func() error { return s.queued(ctx, do) })
	}
	return s.queued(ctx, do)
}

// Guard sets what stands around every write: it decides when the write is
// done, and what its caller is told. For those who try what comes between a
// commit and the news of it; set before the first write.
func (s *Store) Guard(guard func(commit func() error) error) { s.guard = guard }

func (s *Store) queued(ctx context.Context, do func(*Tx) error) error {
	r := request{ctx: ctx, do: do, end: make(chan error, 1)}
	s.mu.RLock()
	if s.closed {
		s.mu.RUnlock()
		return ErrClosed
	}
	select {
	case s.queue <- r:
		s.mu.RUnlock()
	default:
		s.mu.RUnlock()
		return ErrBusy
	}
	return <-r.end // bounded: the writer answers every request it took
}

func (s *Store) write() {
	defer close(s.done)
	for first := range s.queue {
		group := []request{first}
	collect:
		for len(group) < groupSize {
			select {
			case r, ok := <-s.queue:
				if !ok {
					break collect
				}
				group = append(group, r)
			default:
				break collect
			}
		}
		s.commit(group)
	}
}

// commit runs a group in one transaction.
func (s *Store) commit(group []request) {
	ctx := context.Background() // the group's commit does not end with one caller's patience
	answers := make([]error, len(group))
	_, err := s.written.ExecContext(ctx, "BEGIN IMMEDIATE")
	entries := 0
	if err == nil {
		for i, r := range group {
			if answers[i] = r.ctx.Err(); answers[i] == nil {
				var t *Tx
				t, answers[i] = s.one(ctx, r)
				entries += t.entries
			}
		}
		if _, err = s.written.ExecContext(ctx, "COMMIT"); err != nil {
			_, _ = s.written.ExecContext(ctx, "ROLLBACK") // where the failure has not ended it already
			s.known = known{}
		}
	}
	if s.written.changes {
		s.written.changes = false
		s.memory.forget()
	}
	if err == nil && entries > 0 {
		s.notify()
	}
	full := false
	for i := range group {
		if answers[i] == nil && err != nil {
			answers[i] = fmt.Errorf("write to the database: %w", err)
		}
		if answers[i] != nil && strings.Contains(answers[i].Error(), "disk is full") { // SQLITE_FULL, in SQLite's words
			full, answers[i] = true, fmt.Errorf("%w: %w", ErrFull, answers[i])
		}
	}
	if full {
		s.fullAt.CompareAndSwap(0, micros(s.now()))
	} else {
		s.fullAt.Store(0)
	}
	for i, r := range group {
		r.end <- answers[i]
	}
}

// FullSince tells since when there is no room left to write to; ok is false
// where the last write found some.
func (s *Store) FullSince() (at time.Time, ok bool) {
	n := s.fullAt.Load()
	return fromMicros(n), n != 0
}

func (s *Store) one(ctx context.Context, r request) (t *Tx, err error) {
	before := s.known
	t = &Tx{Q: Q{db: s.written}, now: s.now().UTC().Truncate(time.Microsecond), known: &s.known}
	if _, err := s.written.ExecContext(ctx, "SAVEPOINT request"); err != nil {
		return t, err
	}
	err = func() (err error) {
		defer func() {
			if p := recover(); p != nil {
				err = fmt.Errorf("panic in a write: %v", p)
			}
		}()
		return r.do(t)
	}()
	if err != nil {
		s.known, t.entries = before, 0
		if _, rerr := s.written.ExecContext(ctx, "ROLLBACK TO request"); rerr != nil {
			return t, errors.Join(err, rerr)
		}
	}
	_, rerr := s.written.ExecContext(ctx, "RELEASE request")
	return t, errors.Join(err, rerr)
}

// NewID makes a random identifier: 80 bits in lower-case base 32.
func NewID() string {
	var b [10]byte
	_, _ = rand.Read(b[:]) // never fails, by its documentation
	return strings.ToLower(base32.StdEncoding.EncodeToString(b[:]))
}

// Meta reads one value of the installation's own table; "" when it is not set.
func (q Q) Meta(ctx context.Context, key string) (string, error) {
	var v string
	err := q.db.QueryRowContext(ctx, "SELECT value FROM meta WHERE key = ?", key).Scan(&v)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return v, err
}

// SetMeta writes one value of the installation's own table.
func (tx *Tx) SetMeta(ctx context.Context, key, value string) error {
	return tx.exec(ctx, "INSERT INTO meta (key, value) VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value", key, value)
}

func (q Q) exec(ctx context.Context, query string, args ...any) error {
	_, err := q.db.ExecContext(ctx, query, args...)
	return err
}

// IsDuplicate tells whether err comes from a row that exists already.
func IsDuplicate(err error) bool {
	return err != nil && strings.Contains(err.Error(), "UNIQUE constraint failed")
}

// list runs a query and scans every row.
func list[T any](ctx context.Context, q Q, scan func(func(...any) error) (T, error), query string, args ...any) ([]T, error) {
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
	return out, rows.Err()
}

// one is list for a query of one row; ErrNotFound when there is none.
func one[T any](ctx context.Context, q Q, scan func(func(...any) error) (T, error), query string, args ...any) (T, error) {
	v, err := scan(q.db.QueryRowContext(ctx, query, args...).Scan)
	if errors.Is(err, sql.ErrNoRows) {
		return v, ErrNotFound
	}
	return v, err
}

func micros(t time.Time) int64 { return t.UnixMicro() }

func fromMicros(n int64) time.Time { return time.UnixMicro(n).UTC() }

func nullMicros(t *time.Time) any {
	if t == nil {
		return nil
	}
	return micros(*t)
}

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
