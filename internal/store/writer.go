package store

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"syscall"
	"time"
)

// Bounds of the writer.
const (
	// queueLength bounds the requests that wait for the writer; one more is refused.
	queueLength = 4096
	// groupSize bounds the requests of one commit, so that nobody waits long.
	groupSize = 128
)

type request struct {
	ctx context.Context
	do  func(*Tx) error
	// between, in the place of do, is called between two transactions.
	between func(ctx context.Context, on *sql.Conn) error
	end     chan error
}

// Tx is one request's part of a transaction of the writer. What it can write is
// a type a noun.
type Tx struct {
	*txn
	conditionsWrites
	meterWrites
	operationsWrites
	peopleWrites
	guestsWrites
	gitKeysWrites
	passkeysWrites
	luggageWrites
	plansWrites
	prebuildsWrites
	repositoriesWrites
	secretsWrites
	sheetsWrites
	shownWrites
	webhooksWrites
	providersWrites
	linksWrites
	directoryWrites
	teamsWrites
	tokensWrites
	workspacesWrites
}

func transaction(t *txn) *Tx {
	return &Tx{t, conditionsWrites{t}, meterWrites{t}, operationsWrites{t}, peopleWrites{t}, guestsWrites{t}, gitKeysWrites{t}, passkeysWrites{t}, luggageWrites{t}, plansWrites{t}, prebuildsWrites{t}, repositoriesWrites{t}, secretsWrites{t}, sheetsWrites{t}, shownWrites{t}, webhooksWrites{t}, providersWrites{t}, linksWrites{t}, directoryWrites{t}, teamsWrites{t}, tokensWrites{t}, workspacesWrites{t}}
}

// txn is what all of it is written with.
type txn struct {
	Q
	now     time.Time
	entries int
	entryAt time.Time // of the newest journal entry
	subject string    // of the first
	known   *known    // the store's, as of this request
	changed *bool     // something of the cache is another now
	touched []string  // workspaces that are written
	whole   bool      // and something of all of them
	ground  []string  // people and workspaces whose right to be here is another
	said    []Said    // the journal entries
	took    []Took    // what was written down of how long it took
}

// known is what the writer, as the only one who writes, need not read again.
type known struct {
	head head
}

// head is the newest entry of the journal; number 0 is not known.
type head struct {
	number, at int64
	hash       []byte
}

// Now is the time of the transaction.
func (tx *txn) Now() time.Time { return tx.now }

// At moves the transaction to another time: a past is written so.
func (tx *txn) At(t time.Time) { tx.now = t.UTC().Truncate(time.Microsecond) }

// touch says that something of a workspace, or of what is told with it, is
// written; touchAll, of all of them.
func (tx *txn) touch(workspace string) { tx.touched = append(tx.touched, workspace) }
func (tx *txn) touchAll()              { tx.whole = true }

// shift says that the ground on which people are let in is another: a person's,
// or a workspace's.
func (tx *txn) shift(id string) { tx.ground = append(tx.ground, id) }

// cached says that what the transaction changes is kept by the cache.
func (tx *txn) cached() { *tx.changed = true }

// Write runs do in the writer's transaction. When do fails, what it did is
// undone and its error returned; otherwise Write returns after the commit.
//
// do must not touch yard, network or files: everybody waits for it. It may be
// called twice, where others of its group have taken SQLite's transaction with
// them: what it sets outside of itself it sets each time.
func (s *Store) Write(ctx context.Context, do func(*Tx) error) error {
	if s.hooks.Around != nil {
		return s.hooks.Around(ctx, func() error { return s.queued(ctx, do) })
	}
	return s.queued(ctx, do)
}

// About says of what a write with the context is: a workspace, say. It tells
// apart those that wait.
func About(ctx context.Context, subject string) context.Context {
	return context.WithValue(ctx, aboutKey{}, subject)
}

// Subject is what [About] said; "" where nobody did.
func Subject(ctx context.Context) string {
	s, _ := ctx.Value(aboutKey{}).(string)
	return s
}

type aboutKey struct{}

// Hooks are for those who try what may go wrong with a write. All may be nil.
type Hooks struct {
	// Around stands around every write: it decides when the write is done, and
	// what its caller is told.
	Around func(ctx context.Context, commit func() error) error
	// Group is called by the writer before it takes what waits into a group.
	Group func()
	// Statement is called before each statement of the writer's transactions.
	// Where it gives an error the transaction is ended, as SQLite does for a
	// full disk or one that fails, and the statement has that error.
	Statement func() error
}

// Hook sets the hooks, before the first write.
func (s *Store) Hook(h Hooks) { s.hooks, s.written.fault = h, h.Statement }

// OnGround has do called with the people and workspaces whose ground to be let
// in is another, after each commit that makes it so. Before the first write.
func (s *Store) OnGround(do func(ids []string)) { s.onGround = do }

func (s *Store) queued(ctx context.Context, do func(*Tx) error) (err error) {
	if o := onceOf(ctx); o != nil {
		inner := do
		do = func(tx *Tx) error {
			if err := inner(tx); err != nil {
				return err
			}
			return o.note(tx)
		}
		defer func() { o.written = err == nil }()
	}
	return s.await(request{ctx: ctx, do: do, end: make(chan error, 1)})
}

// await has the writer do what is asked.
func (s *Store) await(r request) error {
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
		if s.hooks.Group != nil {
			s.hooks.Group()
		}
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
		group = slices.DeleteFunc(group, func(r request) bool {
			if r.between != nil {
				r.end <- r.between(r.ctx, s.conn)
			}
			return r.between != nil
		})
		if len(group) > 0 {
			s.commit(group)
		}
	}
}

// commit commits a group and answers its requests.
func (s *Store) commit(group []request) {
	answers, entries, err := s.transaction(group)
	if err != nil && len(group) > 1 {
		// The transaction is gone with all that was in it. Who ended it is told
		// so; the others have done nothing wrong.
		entries = 0
		for i, r := range group {
			one, n, err := s.transaction([]request{r})
			answers[i] = cmp.Or(one[0], err)
			entries += n
		}
		err = nil
	}
	if entries > 0 {
		s.notify()
	}
	full := false
	for i := range group {
		answers[i] = translate(cmp.Or(answers[i], err))
		full = full || errors.Is(answers[i], ErrFull)
	}
	if full {
		if s.fullAt.CompareAndSwap(0, micros(s.now())) {
			slog.Error("the service's disk is full: nothing can be written until there is room", "at", s.dir)
		}
	} else if s.fullAt.Load() != 0 && s.roomy() {
		s.fullAt.Store(0)
		slog.Info("there is room on the service's disk again", "at", s.dir)
	}
	for i, r := range group {
		r.end <- answers[i]
	}
}

// transaction runs a group in one transaction: all of it is committed, but for
// what failed by itself, or with err nothing is.
func (s *Store) transaction(group []request) (answers []error, entries int, err error) {
	ctx := context.Background() // the group's commit does not end with one caller's patience
	answers = make([]error, len(group))
	changed, whole := false, false
	var touched, ground []string
	var took []Took
	var said []Said
	began := time.Now()
	_, err = s.written.ExecContext(ctx, "BEGIN IMMEDIATE")
	for i, r := range group {
		if err != nil {
			break
		}
		if answers[i] = r.ctx.Err(); answers[i] != nil {
			continue
		}
		tx := transaction(&txn{Q: queries(reader{db: s.written}), now: s.now().UTC().Truncate(time.Microsecond), known: &s.known, changed: &changed})
		var stands bool
		if answers[i], stands = s.one(ctx, r, tx); !stands {
			err = errTransactionEnded
		}
		entries += tx.entries
		if answers[i] == nil {
			touched, ground, whole = append(touched, tx.touched...), append(ground, tx.ground...), whole || tx.whole
			took, said = append(took, tx.took...), append(said, tx.said...)
		}
	}
	if err == nil {
		_, err = s.written.ExecContext(ctx, "COMMIT")
	}
	if err != nil {
		_, _ = s.written.on.ExecContext(ctx, "ROLLBACK") // where the failure has not ended it already
		s.written.ended = nil
		s.known, entries = known{}, 0
		err = fmt.Errorf("write to the database: %w", err)
	} else {
		if changed {
			s.cache.forget()
		}
		s.changes.note(touched, whole)
		if s.onGround != nil && len(ground) > 0 {
			s.onGround(ground)
		}
		s.tell(time.Since(began), len(group), took, said)
	}
	return answers, entries, err
}

// errTransactionEnded says that SQLite has ended the transaction by itself.
var errTransactionEnded = errors.New("the transaction was ended by what another failed of")

// one runs one request of a group. stands is false where the whole transaction
// was ended with it: nothing may be written then, or it would stand alone.
func (s *Store) one(ctx context.Context, r request, tx *Tx) (err error, stands bool) {
	before := s.known
	if _, err := s.written.ExecContext(ctx, "SAVEPOINT request"); err != nil {
		return err, false
	}
	err = func() (err error) {
		defer func() {
			if p := recover(); p != nil {
				err = fmt.Errorf("panic in a write: %v", p)
			}
		}()
		return r.do(tx)
	}()
	ended := s.written.ended
	if s.written.ended = nil; err == nil {
		err = ended // do has passed over it, and nothing was written since
	}
	if err != nil {
		s.known, tx.entries = before, 0
		if _, rerr := s.written.ExecContext(ctx, "ROLLBACK TO request"); rerr != nil {
			return errors.Join(err, rerr), false
		}
	}
	if _, rerr := s.written.ExecContext(ctx, "RELEASE request"); rerr != nil {
		return errors.Join(err, rerr), false
	}
	return err, true
}

// roomy tells whether the records' file system has 1 MiB of room. On a full one small
// writes go well now and then, into what the file has to spare.
func (s *Store) roomy() bool {
	free, size := s.Room()
	return size == 0 || free >= 1<<20
}

// Room is the room, in bytes, that the records' file system has left for who is not root,
// and what it has in all; zero where that cannot be told.
func (s *Store) Room() (free, size uint64) {
	var fs syscall.Statfs_t
	if syscall.Statfs(s.dir, &fs) != nil {
		return 0, 0
	}
	return fs.Bavail * uint64(fs.Bsize), fs.Blocks * uint64(fs.Bsize)
}

// FullSince tells since when there is no room left to write to; ok is false
// where there is.
func (s *Store) FullSince() (at time.Time, ok bool) {
	n := s.fullAt.Load()
	return fromMicros(n), n != 0
}
