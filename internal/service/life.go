package service

import (
	"context"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Began writes down that the service has started, and gives what it goes on with.
func (s *Journal) Began(ctx context.Context, yard string) (journal.ServiceStarted, error) {
	all, err := s.store.Read().Workspaces(ctx)
	if err != nil {
		return journal.ServiceStarted{}, err
	}
	began := journal.ServiceStarted{Version: wire.Version(), Yard: yard}
	for _, w := range all {
		if !w.Phase.Settled() {
			began.GoesOnWith++
		}
	}
	return began, s.store.Write(ctx, func(tx *store.Tx) error { return tx.Journal(ctx, "", "", "service", began) })
}

// Ends writes down that it ends, within a bounded time.
func (s *Journal) Ends(why string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	return s.store.Write(ctx, func(tx *store.Tx) error { return tx.Journal(ctx, "", "", "service", journal.ServiceStopped{Why: why}) })
}
