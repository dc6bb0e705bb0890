package service

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/trouble"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/reconcile"
	"yardbench/internal/store"
	"yardbench/internal/yard"
	"yardbench/wire"
)

// Health tells how the service itself is.
type Health struct {
	keeper      *reconcile.Keeper
	house       *house.Book
	simulated   bool
	store       *store.Store
	yard        yard.Roomer // nil where it cannot say how much room it has
	views       *views
	keys        []string                  // the files of the keys
	certificate func() time.Time          // when it ends; nil where there is none
	trail       func() (behind time.Time) // since when it has not followed; nil where there is none
	now         func() time.Time

	mu    sync.Mutex
	seen  trouble.Seen         // what is looked at now and then
	since map[string]time.Time // of what stands
}

const (
	looksEach  = 10 * time.Second
	lookWithin = 5 * time.Second
)

// Run looks now and then at what is not seen at once, until ctx ends, and logs what
// begins and ends of it.
func (s *Health) Run(ctx context.Context) {
	t := time.NewTicker(looksEach)
	defer t.Stop()
	for {
		s.look(ctx)
		s.Health()
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
	}
}

// look looks at what takes a while to see. What cannot be seen is as it was.
func (s *Health) look(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, lookWithin)
	defer cancel()
	now := s.now()
	s.mu.Lock()
	seen := s.seen
	s.mu.Unlock()
	seen.KeyGone = ""
	for _, path := range s.keys {
		f, err := os.Open(path)
		if err != nil {
			seen.KeyGone = filepath.Join(filepath.Base(filepath.Dir(path)), filepath.Base(path))
			break
		}
		_ = f.Close() // it was only opened to read
	}
	if s.certificate != nil {
		seen.CertificateEnds = s.certificate()
	}
	if s.trail != nil {
		seen.TrailBehind = s.trail()
	}
	if s.yard != nil {
		seen.Images.FreeBytes, seen.Images.SizeBytes = s.yard.Room(ctx)
	}
	q := s.store.Read()
	if rows, err := s.views.rows(ctx); err == nil {
		seen.Up, seen.Away = 0, 0
		for _, r := range rows {
			if r.w.Phase != lifecycle.Ready {
				continue
			}
			seen.Up++
			for _, c := range r.conditions {
				if c.Kind == lifecycle.StewardAway && now.Sub(c.Since) >= awayAtLeast {
					seen.Away++
				}
			}
		}
	}
	if hooks, err := q.Webhooks(ctx); err == nil {
		seen.Webhooks = 0
		for _, h := range hooks {
			if h.PausedAt == nil && h.FailingSince != nil && now.Sub(*h.FailingSince) >= trouble.FailingAfter {
				seen.Webhooks++
			}
		}
	}
	if plans, failed, err := q.PlansThatFail(ctx); err == nil {
		seen.Plans, seen.FailedLast = plans, failed
	}
	if newest, err := q.NewestEntryAt(ctx); err == nil {
		seen.NewestEntry = newest
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.seen = seen
}

// Health says whether the service is well, to anybody: no names, no addresses.
func (s *Health) Health() wire.Health {
	h := wire.Health{Status: "ok", Version: wire.Version(), At: s.now().UTC(), Simulated: s.simulated}
	awayAt, away := s.keeper.Sight.YardAway()
	fullAt, full := s.store.FullSince()
	s.mu.Lock()
	defer s.mu.Unlock()
	seen := s.seen
	seen.Now, seen.YardAway, seen.Full, seen.Data = h.At, away, full, dataDisk(s.store)
	stands := map[string]time.Time{}
	for _, t := range trouble.Judge(seen) {
		since, known := s.since[t.Kind]
		switch {
		case t.Kind == trouble.YardAway:
			since = awayAt
		case t.Kind == trouble.DiskFull:
			since = fullAt
		case !known:
			since = h.At
			slog.Warn("trouble", "kind", t.Kind, "what", t.Text)
		}
		stands[t.Kind] = since
		if t.Grave {
			h.Status = "troubled"
		} else if h.Status == "ok" {
			h.Status = "warned"
		}
		h.Troubles = append(h.Troubles, wire.Trouble{Kind: t.Kind, Text: t.Text, Since: since.UTC(), Grave: t.Grave})
	}
	for kind, since := range s.since {
		if _, still := stands[kind]; !still && kind != trouble.YardAway && kind != trouble.DiskFull { // those two are logged where they are noticed
			slog.Info("trouble is over", "kind", kind, "after", h.At.Sub(since).Round(time.Second).String())
		}
	}
	s.since = stands
	return h
}

// dataDisk is the room where the records are.
func dataDisk(st *store.Store) (d trouble.Disk) {
	d.FreeBytes, d.SizeBytes = st.Room()
	return d
}

// roomToBegin refuses what makes much, where the service's disk is nearly full.
func roomToBegin(st *store.Store) error {
	if !dataDisk(st).NearlyFull() {
		return nil
	}
	return &fault.Fault{Class: fault.NoRoom, Kind: "disk-nearly-full", Detail: "the service's disk is nearly full: nothing new is launched or prepared", Next: "use what you have, and ask an operator to make room where the service's data is; it goes on by itself then"}
}

// DiskFull is the fault of an error that came of a full disk; nil for others.
func DiskFull(err error) error {
	if !errors.Is(err, store.ErrFull) {
		return nil
	}
	return &fault.Fault{Class: fault.NoRoom, Kind: "disk-full", Detail: store.ErrFull.Error(), Next: "ask an operator to make room where its data is; it goes on by itself then"}
}
