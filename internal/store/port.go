package store

import (
	"context"
	"time"

	"yardbench/internal/core/journal"
)

// Share is who may visit a port beside its owner; the zero value is nobody.
type Share struct {
	Team, All bool      // its owner's team, or everybody signed in
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
func (tx workspacesWrites) SharePort(ctx context.Context, w Workspace, port int, s Share, actor string) error {
	tx.shift(w.ID)
	var err error
	shared := s.Team || s.All
	if shared {
		until := int64(0)
		if !s.Until.IsZero() {
			until = micros(s.Until)
		}
		err = tx.exec(ctx, `INSERT INTO shared_ports (workspace_id, port, team, until_at) VALUES (?, ?, ?, ?)
			ON CONFLICT (workspace_id, port) DO UPDATE SET team = excluded.team, until_at = excluded.until_at`, w.ID, port, !s.All, until)
	} else {
		err = tx.exec(ctx, "DELETE FROM shared_ports WHERE workspace_id = ? AND port = ?", w.ID, port)
	}
	if err != nil {
		return err
	}
	e := journal.PortShared{Port: port, Shared: shared, Team: shared && !s.All}
	if !s.Until.IsZero() {
		e.Until = &s.Until
	}
	return tx.Journal(ctx, w.ID, w.OwnerID, actor, e)
}

// SharedPorts lists the ports of a workspace that others may visit now.
func (q workspacesReads) SharedPorts(ctx context.Context, workspace string, now time.Time) (map[int]Share, error) {
	out := map[int]Share{}
	_, err := list(ctx, q.reader, func(scan func(...any) error) (struct{}, error) {
		var p int
		var s Share
		var until int64
		err := scan(&p, &s.Team, &until)
		if s.All = !s.Team; until != 0 {
			s.Until = fromMicros(until)
		}
		if s = s.At(now); s.Team || s.All {
			out[p] = s
		}
		return struct{}{}, err
	}, "SELECT port, team, until_at FROM shared_ports WHERE workspace_id = ?", workspace)
	return out, err
}
