package service

import (
	"errors"
	"net/http"

	"yardbench/internal/store"
	"yardbench/internal/wire"
)

// Health says whether the service is well, to anybody: no names, no addresses.
func (s *Service) Health() wire.Health {
	h := wire.Health{Status: "ok", Simulated: s.Simulated}
	if at, away := s.Keeper.YardAway(); away {
		h.Troubles = append(h.Troubles, wire.Trouble{Kind: "yard away", Text: "the yard does not answer: what runs in it may go on, and nothing can be launched, started or stopped", Since: at.UTC()})
	}
	if at, full := s.Store.FullSince(); full {
		h.Troubles = append(h.Troubles, wire.Trouble{Kind: "disk full", Text: store.ErrFull.Error(), Since: at})
	}
	if len(h.Troubles) > 0 {
		h.Status = "troubled"
	}
	return h
}

// DiskFull is the problem of an error that came of a full disk; nil for others.
func DiskFull(err error) *wire.Problem {
	if !errors.Is(err, store.ErrFull) {
		return nil
	}
	return problem(http.StatusInsufficientStorage, "disk-full", store.ErrFull.Error(), "ask an operator to make room where its data is; it goes on by itself then")
}
