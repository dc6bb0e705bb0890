package store

import (
	"context"
	"database/sql"
	"sync"
)

// maxStatements bounds the statements that are kept prepared. All of ours are
// fewer; some are put together from what is asked for.
const maxStatements = 400

// statements runs queries, and keeps each prepared: to read its text costs
// SQLite more than most of them take.
type statements struct {
	on interface {
		querier
		PrepareContext(context.Context, string) (*sql.Stmt, error)
	}
	// whole tells that what has begun is not given up with its caller's patience;
	// to watch for that costs more than most queries take.
	whole bool
	// ended is the error with which SQLite may have ended the transaction; what
	// is asked for after it would stand in none. Of the writer.
	ended error
	fault func() error // see [Hooks.Statement]
	plans *plans
	mu    sync.RWMutex
	of    map[string]*sql.Stmt
}

func (s *statements) context(ctx context.Context) context.Context {
	if s.whole {
		return context.Background()
	}
	return ctx
}

// prepared is the statement of a query; nil where it is not kept.
func (s *statements) prepared(ctx context.Context, query string) *sql.Stmt {
	s.mu.RLock()
	st, n := s.of[query], len(s.of)
	s.mu.RUnlock()
	if st != nil || n >= maxStatements {
		return st
	}
	st, err := s.on.PrepareContext(context.WithoutCancel(ctx), query)
	if err != nil {
		return nil // whoever runs it is told why
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if other := s.of[query]; other != nil {
		st.Close()
		return other
	}
	if s.of == nil {
		s.of = map[string]*sql.Stmt{}
	}
	s.of[query] = st
	return st
}

func (s *statements) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, st := range s.of {
		st.Close()
	}
	s.of = nil
}

func (s *statements) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	if err := s.stands(); err != nil {
		return nil, err
	}
	ctx = s.context(ctx)
	var res sql.Result
	var err error
	if st := s.prepared(ctx, query); st != nil {
		res, err = st.ExecContext(ctx, args...)
	} else {
		res, err = s.on.ExecContext(ctx, query, args...)
	}
	return res, s.seen(err)
}

// stands gives the error that ended the transaction, if one did.
func (s *statements) stands() error {
	if s.ended == nil && s.fault != nil {
		if err := s.fault(); err != nil {
			_, _ = s.on.ExecContext(context.Background(), "ROLLBACK") // as SQLite would
			s.ended = err
		}
	}
	return s.ended
}

// seen notes an error that may have ended the transaction.
func (s *statements) seen(err error) error {
	if s.whole && s.ended == nil && endsTransaction(err) {
		s.ended = err
	}
	return err
}

func (s *statements) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if s.ended != nil {
		return nil, s.ended
	}
	ctx = s.context(ctx)
	var rows *sql.Rows
	var err error
	if st := s.prepared(ctx, query); st != nil {
		rows, err = st.QueryContext(ctx, args...)
	} else {
		rows, err = s.on.QueryContext(ctx, query, args...)
	}
	return rows, s.seen(err)
}

func (s *statements) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	ctx = s.context(ctx)
	if s.ended != nil { // no row can carry it
		gone, cancel := context.WithCancel(ctx)
		cancel()
		return s.on.QueryRowContext(gone, query, args...)
	}
	if ctx.Err() == nil { // every query of one row goes by an index: it is there before anybody loses patience
		ctx = context.Background()
	}
	if st := s.prepared(ctx, query); st != nil {
		return st.QueryRowContext(ctx, args...)
	}
	return s.on.QueryRowContext(ctx, query, args...)
}
