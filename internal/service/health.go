package service

import (
	"errors"
	"time"

	"yardbench/internal/fault"
	"yardbench/internal/reconcile"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Health tells how the service itself is.
type Health struct {
	keeper    *reconcile.Keeper
	simulated bool
	store     *store.Store
	now       func() time.Time
}

// Health says whether the service is well, to anybody: no names, no addresses.
func (s *Health) Health() wire.Health {
	h := wire.Health{Status: "ok", Version: wire.Version(), At: s.now().UTC(), Simulated: s.simulated}
	if at, away := s.keeper.Sight.YardAway(); away {
		h.Troubles = append(h.Troubles, wire.Trouble{Kind: "yard away", Text: "the yard does not answer: what runs in it may go on; what is asked for waits, and is done when it answers", Since: at.UTC()})
	}
	if at, full := s.store.FullSince(); full {
		h.Troubles = append(h.Troubles, wire.Trouble{Kind: "disk full", Text: store.ErrFull.Error(), Since: at})
	}
	if len(h.Troubles) > 0 {
		h.Status = "troubled"
	}
	return h
}

// DiskFull is the fault of an error that came of a full disk; nil for others.
func DiskFull(err error) error {
	if !errors.Is(err, store.ErrFull) {
		return nil
	}
	return &fault.Fault{Class: fault.NoRoom, Kind: "disk-full", Detail: store.ErrFull.Error(), Next: "ask an operator to make room where its data is; it goes on by itself then"}
}
