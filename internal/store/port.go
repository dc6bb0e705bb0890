package store

import (
	"context"
	"time"

	"yardbench/internal/core/journal"
)

// What of workspaces is shown to others: ports, terminals, recordings of these.
type (
	shownReads  struct{ reader }
	shownWrites struct{ *txn }
)

// Share is who may visit a port beside its owner; the zero value is nobody.
type Share struct {
	Team, All bool      // its owner's team, or everybody signed in
	Public    bool      // anybody at all; All is set too
	Until     time.Time // zero is for good
}

// At is a share as it holds at a time.
func (s Share) At(now time.Time) Share {
	if !s.Until.IsZero() && !s.Until.After(now) {
		return Share{}
	}
	return s
}

// SharePort says who may visit a port beside its owner.
func (tx shownWrites) SharePort(ctx context.Context, w Workspace, port int, s Share, actor string) error {
	tx.shift(w.ID)
	var err error
	shared := s.Team || s.All
	if shared {
		until := int64(0)
		if !s.Until.IsZero() {
			until = micros(s.Until)
		}
		err = tx.exec(ctx, `INSERT INTO shared_ports (workspace_id, port, team, public, until_at) VALUES (?, ?, ?, ?, ?)
			ON CONFLICT (workspace_id, port) DO UPDATE SET team = excluded.team, public = excluded.public, until_at = excluded.until_at`, w.ID, port, !s.All, s.Public, until)
	} else {
		err = tx.exec(ctx, "DELETE FROM shared_ports WHERE workspace_id = ? AND port = ?", w.ID, port)
	}
	if err != nil {
		return err
	}
	e := journal.PortShared{Port: port, Shared: shared, Team: shared && !s.All, Public: s.Public}
	if !s.Until.IsZero() {
		e.Until = &s.Until
	}
	return tx.Journal(ctx, w.ID, w.OwnerID, actor, e)
}

// SharedPorts lists the ports of a workspace that others may visit now.
func (q shownReads) SharedPorts(ctx context.Context, workspace string, now time.Time) (map[int]Share, error) {
	out := map[int]Share{}
	_, err := list(ctx, q.reader, func(scan func(...any) error) (struct{}, error) {
		var p int
		var s Share
		var until int64
		err := scan(&p, &s.Team, &s.Public, &until)
		if s.All = !s.Team; until != 0 {
			s.Until = fromMicros(until)
		}
		if s = s.At(now); s.Team || s.All {
			out[p] = s
		}
		return struct{}{}, err
	}, "SELECT port, team, public, until_at FROM shared_ports WHERE workspace_id = ?", workspace)
	return out, err
}

// LookLink lets whoever holds it visit one port for a time, signed in or not.
type LookLink struct {
	ID, WorkspaceID string
	Port            int
	Hash            []byte // SHA-256 of what the link holds
	Wakes           bool   // a visit by it starts the workspace, and keeps it from rest
	VisitsMost      int    // 0 is no bound
	Visits          int
	VisitedAt       *time.Time
	MadeAt, Until   time.Time
}

const lookLinkColumns = "SELECT id, workspace_id, port, hash, wakes, visits_most, visits, visited_at, made_at, until_at FROM look_links "

func scanLookLink(scan func(...any) error) (l LookLink, err error) {
	var visited, made, until int64
	err = scan(&l.ID, &l.WorkspaceID, &l.Port, &l.Hash, &l.Wakes, &l.VisitsMost, &l.Visits, &visited, &made, &until)
	if l.MadeAt, l.Until = fromMicros(made), fromMicros(until); visited != 0 {
		at := fromMicros(visited)
		l.VisitedAt = &at
	}
	return l, err
}

// AddLookLink adds a link to a workspace, and drops those that are over.
func (tx shownWrites) AddLookLink(ctx context.Context, w Workspace, l LookLink, actor string) error {
	if err := tx.exec(ctx, "DELETE FROM look_links WHERE until_at <= ?", micros(tx.now)); err != nil {
		return err
	}
	if err := tx.exec(ctx, "INSERT INTO look_links (id, workspace_id, port, hash, wakes, visits_most, made_at, until_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
		l.ID, w.ID, l.Port, l.Hash, l.Wakes, l.VisitsMost, micros(l.MadeAt), micros(l.Until)); err != nil {
		return err
	}
	return tx.Journal(ctx, w.ID, w.OwnerID, actor, journal.LookLinkMade{Link: l.ID, Port: l.Port, Wakes: l.Wakes, Until: l.Until})
}

// EndLookLink ends a link of a workspace. [ErrNotFound] where there is none.
func (tx shownWrites) EndLookLink(ctx context.Context, w Workspace, id, actor string) error {
	tx.shift(w.ID)
	l, err := tx.LookLink(ctx, id, tx.now)
	if err != nil {
		return err
	}
	if err := tx.mustChange(ctx, "DELETE FROM look_links WHERE id = ? AND workspace_id = ?", id, w.ID); err != nil {
		return err
	}
	return tx.Journal(ctx, w.ID, w.OwnerID, actor, journal.LookLinkEnded{Link: id, Port: l.Port, Visits: l.Visits})
}

// CountVisit counts a visit by a link. [ErrNotFound] where it has had all its own.
func (tx shownWrites) CountVisit(ctx context.Context, id string) error {
	return tx.mustChange(ctx, "UPDATE look_links SET visits = visits + 1, visited_at = ? WHERE id = ? AND (visits_most = 0 OR visits < visits_most)", micros(tx.now), id)
}

// LookLinks lists the links of a workspace that hold now, the oldest first.
func (q shownReads) LookLinks(ctx context.Context, workspace string, now time.Time) ([]LookLink, error) {
	return list(ctx, q.reader, scanLookLink, lookLinkColumns+"WHERE workspace_id = ? AND until_at > ? ORDER BY made_at, id", workspace, micros(now))
}

// LookLink finds a link that holds now. [ErrNotFound] where it does not.
func (q shownReads) LookLink(ctx context.Context, id string, now time.Time) (LookLink, error) {
	return one(ctx, q.reader, scanLookLink, lookLinkColumns+"WHERE id = ? AND until_at > ?", id, micros(now))
}

// LookLinkByHash finds a link that holds now by what it holds.
func (q shownReads) LookLinkByHash(ctx context.Context, hash []byte, now time.Time) (LookLink, error) {
	return one(ctx, q.reader, scanLookLink, lookLinkColumns+"WHERE hash = ? AND until_at > ?", hash, micros(now))
}
