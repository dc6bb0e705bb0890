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
	// memory is forgotten by a statement that changes it, and changes is set
	// then; only the writer has one.
	memory  *memory
	changes bool
	mu      sync.RWMutex
	of      map[string]*sql.Stmt
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
	ctx = s.context(ctx)
	if s.memory != nil && changesMemory(query) {
		s.changes = true
		s.memory.forget()
	}
	if st := s.prepared(ctx, query); st != nil {
		return st.ExecContext(ctx, args...)
	}
	return s.on.ExecContext(ctx, query, args...)
}

func (s *statements) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	ctx = s.context(ctx)
	if st := s.prepared(ctx, query); st != nil {
		return st.QueryContext(ctx, args...)
	}
	return s.on.QueryContext(ctx, query, args...)
}

func (s *statements) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	if ctx.Err() == nil { // one row is there before anybody loses patience
		ctx = context.Background()
	}
	if st := s.prepared(ctx, query); st != nil {
		return st.QueryRowContext(ctx, args...)
	}
	return s.on.QueryRowContext(ctx, query, args...)
}
