package service

import (
	"context"
	"errors"
	"io"
	"log/slog"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/record"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Recordings are the use cases of what terminals printed and was kept, as their owners
// asked or as the house rules have it.
type Recordings struct {
	*record.Recorder
	house    *house.Book
	store    *store.Store
	sessions *Sessions
	views    *views
	// simulated yards have terminals that print nothing of their own.
	simulated bool
}

// maxRecordings bounds the list: the newest.
const maxRecordings = 5_000

// Recordings lists what the actor may see, the newest first: their own, and, to an
// auditor, those that the house rules had made.
func (s *Recordings) Recordings(ctx context.Context, a Actor) ([]wire.Recording, error) {
	owner := a.ID
	if a.Widest(policy.SeeRecordings) == policy.Other {
		owner = ""
	}
	rows, err := s.store.Read().RecordingsBy(ctx, owner, maxRecordings)
	if err != nil {
		return nil, err
	}
	out := []wire.Recording{}
	for _, r := range rows {
		v, _, err := s.seen(ctx, a, r)
		if errors.Is(err, errUnseen) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

var errUnseen = errors.New("not theirs to see")

// seen is a recording as the actor sees it; errUnseen where they may not.
func (s *Recordings) seen(ctx context.Context, a Actor, r store.Recording) (wire.Recording, store.Workspace, error) {
	w, err := s.store.Read().WorkspaceByID(ctx, r.WorkspaceID)
	if err != nil {
		return wire.Recording{}, w, err
	}
	owner, err := s.store.Read().PersonByID(ctx, r.OwnerID)
	if err != nil {
		return wire.Recording{}, w, err
	}
	if !a.mayOf(policy.SeeRecordings, owner) || !a.holds(w.RepositoryID) || r.Asked && a.ID != r.OwnerID {
		return wire.Recording{}, w, errUnseen
	}
	r = s.Progress(r)
	return wire.Recording{ID: r.ID, Workspace: w.Name, Owner: owner.Name, Terminal: r.Terminal, Asked: r.Asked, BeganAt: r.BeganAt, EndedAt: r.EndedAt, Why: r.Why, Bytes: r.Bytes}, w, nil
}

// find finds a recording that the actor may see.
func (s *Recordings) find(ctx context.Context, a Actor, id string) (store.Recording, wire.Recording, store.Workspace, error) {
	none := notFound("recording", id, "see yours", fault.Do("list-recordings", ""))
	r, err := s.store.Read().Recording(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return r, wire.Recording{}, store.Workspace{}, none
	}
	if err != nil {
		return r, wire.Recording{}, store.Workspace{}, err
	}
	v, w, err := s.seen(ctx, a, r)
	if errors.Is(err, errUnseen) {
		err = none
	}
	return r, v, w, err
}

// Show is one recording.
func (s *Recordings) Show(ctx context.Context, a Actor, id string) (wire.Recording, error) {
	_, v, _, err := s.find(ctx, a, id)
	return v, err
}

// Content opens what a recording holds, as far as it has come. That somebody else than
// the workspace's owner looks at it is in the journal.
func (s *Recordings) Content(ctx context.Context, a Actor, id string) (io.ReadCloser, error) {
	r, _, w, err := s.find(ctx, a, id)
	if err != nil {
		return nil, err
	}
	f, err := s.Open(r)
	if err != nil {
		return nil, notFound("recording", id, "its file is gone")
	}
	if a.ID != r.OwnerID {
		if err := s.store.Write(ctx, func(tx *store.Tx) error {
			return tx.Journal(ctx, w.ID, w.OwnerID, a.ID, journal.RecordingSeen{Recording: r.ID, Terminal: r.Terminal})
		}); err != nil {
			f.Close()
			return nil, err
		}
	}
	return f, nil
}

// Record begins to record a terminal that is open in the actor's own workspace, where
// the house rules let owners do so; one that is recorded goes on.
func (s *Recordings) Record(ctx context.Context, a Actor, in wire.NewRecording) (wire.Recording, error) {
	w, _, err := s.views.findTo(ctx, a, in.Workspace, policy.UseWorkspace, "record terminals of")
	if err != nil {
		return wire.Recording{}, err
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return wire.Recording{}, err
	}
	if house.Terminals.Recording == "" {
		return wire.Recording{}, conflict("house-rules", "the house rules have no terminals recorded", "ask an operator for terminals.recording")
	}
	label := in.Terminal
	if label == "" {
		label = "main"
	}
	open, err := s.sessions.Terminals(ctx, a, in.Workspace)
	if err != nil {
		return wire.Recording{}, err
	}
	if _, err := One(open, nil, func(t wire.Terminal) bool { return t.Label == label }, "open terminal", label); err != nil {
		return wire.Recording{}, err
	}
	r, err := s.Begin(ctx, w, label, house.Terminals.Recording == rules.RecordAsked, a.ID)
	if err != nil {
		return wire.Recording{}, err
	}
	v, _, err := s.seen(ctx, a, r)
	return v, err
}

// Stop ends a recording that its owner asked for.
func (s *Recordings) Stop(ctx context.Context, a Actor, id string) (wire.Recording, error) {
	r, _, _, err := s.find(ctx, a, id)
	if err != nil {
		return wire.Recording{}, err
	}
	if a.ID != r.OwnerID || !r.Asked {
		return wire.Recording{}, conflict("house-rules", "the house rules have it recorded", "it ends with its terminal")
	}
	s.End(ctx, r, "its owner ended it")
	return s.Show(ctx, a, id)
}

// Drop removes a recording that has ended and that its owner asked for.
func (s *Recordings) Drop(ctx context.Context, a Actor, id string) error {
	r, v, w, err := s.find(ctx, a, id)
	if err != nil {
		return err
	}
	if a.ID != r.OwnerID || !r.Asked {
		return conflict("house-rules", "the house rules have it kept", "it goes when its time is over")
	}
	if v.EndedAt == nil {
		return conflict("not-now", "it goes on", "end it first", fault.Do("end-recording", id))
	}
	return s.Remove(ctx, r, func(tx *store.Tx) error {
		return tx.Journal(ctx, w.ID, w.OwnerID, a.ID, journal.RecordingRemoved{Recording: r.ID, Terminal: r.Terminal})
	})
}

// recorded tells whether the house rules have every terminal recorded.
func (s *Recordings) recorded(ctx context.Context) bool {
	house, _, err := s.house.Rules(ctx, s.store.Read())
	return err == nil && house.Terminals.Recording == rules.RecordAlways && !s.simulated
}

// keep has a terminal recorded that was opened or joined just now.
func (s *Recordings) keep(ctx context.Context, w store.Workspace, label string) {
	if w.Phase != lifecycle.Ready {
		return
	}
	if _, err := s.Begin(ctx, w, label, false, "service"); err != nil {
		slog.Error("a terminal is not recorded", "workspace", w.ID, "terminal", label, "error", err)
	}
}
