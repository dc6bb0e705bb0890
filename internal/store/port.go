package store

import (
	"context"

	"yardbench/internal/core/journal"
)

// SharePort lets everybody signed in visit a port, or no more.
func (tx workspacesWrites) SharePort(ctx context.Context, w Workspace, port int, shared bool, actor string) error {
	tx.shift(w.ID)
	var err error
	if shared {
		err = tx.exec(ctx, "INSERT OR IGNORE INTO shared_ports (workspace_id, port) VALUES (?, ?)", w.ID, port)
	} else {
		err = tx.exec(ctx, "DELETE FROM shared_ports WHERE workspace_id = ? AND port = ?", w.ID, port)
	}
	if err != nil {
		return err
	}
	return tx.Journal(ctx, w.ID, w.OwnerID, actor, journal.PortShared{Port: port, Shared: shared})
}

// SharedPorts lists the ports of a workspace that everybody signed in may visit.
func (q workspacesReads) SharedPorts(ctx context.Context, workspace string) (map[int]bool, error) {
	out := map[int]bool{}
	_, err := list(ctx, q.reader, func(scan func(...any) error) (struct{}, error) {
		var p int
		err := scan(&p)
		out[p] = true
		return struct{}{}, err
	}, "SELECT port FROM shared_ports WHERE workspace_id = ?", workspace)
	return out, err
}
