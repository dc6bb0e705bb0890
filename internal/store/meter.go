package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"sort"
	"time"

	"yardbench/internal/core/cost"
	"yardbench/internal/core/lifecycle"
)

// meter brings a journal entry into the intervals, in its transaction and at
// its time.
func (tx *Tx) meter(ctx context.Context, w Workspace, e cost.Event) error {
	e.At = tx.entryAt
	open, err := tx.openIntervals(ctx, w.ID)
	if err != nil {
		return err
	}
	for _, c := range cost.Apply(open, w.Kind == ForPrebuild, e) {
		if !c.Open {
			err = tx.exec(ctx, "UPDATE intervals SET to_at = ? WHERE workspace_id = ? AND kind = ? AND to_at IS NULL", micros(c.At), w.ID, c.Kind)
		} else {
			err = tx.exec(ctx, `INSERT INTO intervals (workspace_id, owner_id, team_id, repository_id, kind, size, disk_bytes, from_at)
				VALUES (?, ?, COALESCE((SELECT team_id FROM people WHERE id = ?), ''), ?, ?, ?, ?, ?)`,
				w.ID, w.OwnerID, w.OwnerID, w.RepositoryID, c.Kind, w.Size, w.DiskBytes, micros(c.At))
		}
		if err != nil {
			return fmt.Errorf("meter %s of %s: %w", c.Kind, w.ID, err)
		}
	}
	return nil
}

func (q Q) openIntervals(ctx context.Context, workspace string) (map[cost.Kind]time.Time, error) {
	open := map[cost.Kind]time.Time{}
	_, err := list(ctx, q, func(scan func(...any) error) (struct{}, error) {
		var k cost.Kind
		var at int64
		err := scan(&k, &at)
		open[k] = fromMicros(at)
		return struct{}{}, err
	}, "SELECT kind, from_at FROM intervals WHERE workspace_id = ? AND to_at IS NULL", workspace)
	return open, err
}

// Scope says whose intervals or entries are meant; empty means everybody's.
type Scope struct{ OwnerID, TeamID string }

// where narrows a query of workspaces to the scope, in words for which there
// is an index.
func (s Scope) where() (more string, args []any) {
	if s.OwnerID != "" {
		more, args = more+" AND owner_id = ?", append(args, s.OwnerID)
	}
	if s.TeamID != "" {
		more, args = more+" AND owner_id IN (SELECT id FROM people WHERE team_id = ?)", append(args, s.TeamID)
	}
	return more, args
}

// Intervals lists the metered time between from and to, with names.
func (q Q) Intervals(ctx context.Context, s Scope, workspace string, from, to time.Time) ([]cost.Interval, error) {
	return list(ctx, q, func(scan func(...any) error) (i cost.Interval, err error) {
		var start int64
		var end sql.NullInt64
		var kind string
		err = scan(&i.Workspace, &kind, &i.Owner, &i.Team, &i.Repository, &i.Kind, &i.Size, &i.DiskBytes, &start, &end)
		if i.From = fromMicros(start); end.Valid {
			i.To = fromMicros(end.Int64)
		}
		if kind == ForPrebuild { // nobody's in particular
			i.Owner, i.Team, i.Workspace = "", "", "prebuilds of "+i.Repository
		} else {
			i.Workspace += "." + i.Owner
		}
		return i, err
	}, `SELECT w.name, w.kind, p.name, COALESCE(t.name, ''), r.name, i.kind, i.size, i.disk_bytes, i.from_at, i.to_at FROM intervals i
		JOIN workspaces w ON w.id = i.workspace_id JOIN people p ON p.id = i.owner_id JOIN repositories r ON r.id = i.repository_id
		LEFT JOIN teams t ON t.id = i.team_id
		WHERE i.from_at < ? AND (i.to_at IS NULL OR i.to_at > ?)
		AND (? = '' OR (i.owner_id = ? AND w.kind = 'person')) AND (? = '' OR (i.team_id = ? AND w.kind = 'person')) AND (? = '' OR i.workspace_id = ?)`,
		micros(to), micros(from), s.OwnerID, s.OwnerID, s.TeamID, s.TeamID, workspace, workspace)
}

// WorkspaceIntervals lists the metered time of people's workspaces that exist,
// by workspace: all of it.
func (q Q) WorkspaceIntervals(ctx context.Context, owner string) (map[string][]cost.Interval, error) {
	out := map[string][]cost.Interval{}
	_, err := list(ctx, q, func(scan func(...any) error) (struct{}, error) {
		var id string
		var i cost.Interval
		var start int64
		var end sql.NullInt64
		err := scan(&id, &i.Kind, &i.Size, &i.DiskBytes, &start, &end)
		if i.From = fromMicros(start); end.Valid {
			i.To = fromMicros(end.Int64)
		}
		out[id] = append(out[id], i)
		return struct{}{}, err
	}, `SELECT i.workspace_id, i.kind, i.size, i.disk_bytes, i.from_at, i.to_at FROM workspaces w JOIN intervals i ON i.workspace_id = w.id
		WHERE w.phase <> 'removed' AND w.kind = 'person' AND (? = '' OR w.owner_id = ?) ORDER BY i.from_at`, owner, owner)
	return out, err
}

// Metered is one stored interval, as Remeter compares it.
type Metered struct {
	Workspace string
	Kind      cost.Kind
	From, To  int64 // microseconds; To is 0 while it goes on
}

// Remeter meters the whole journal anew and gives what is stored beside what
// it came to: they are the same, whatever ended the service meanwhile.
func (q Q) Remeter(ctx context.Context) (stored, computed []Metered, err error) {
	stored, err = list(ctx, q, func(scan func(...any) error) (m Metered, err error) {
		var to sql.NullInt64
		err = scan(&m.Workspace, &m.Kind, &m.From, &to)
		m.To = to.Int64
		return m, err
	}, "SELECT workspace_id, kind, from_at, to_at FROM intervals")
	if err != nil {
		return nil, nil, err
	}
	type meter struct {
		prebuild bool
		open     map[cost.Kind]time.Time
	}
	meters := map[string]*meter{}
	for after := int64(0); ; {
		entries, err := q.JournalAfter(ctx, after, "", "", 1000)
		if err != nil {
			return nil, nil, err
		}
		for _, e := range entries {
			after = e.Number
			var d struct {
				Kind  string          `json:"kind"`
				To    lifecycle.Phase `json:"to"`
				Over  bool            `json:"over"`
				Since time.Time       `json:"since"`
			}
			if err := json.Unmarshal(e.Data, &d); err != nil {
				continue // not one of those that are metered
			}
			ev := cost.Event{At: e.At}
			switch {
			case e.Kind == "workspace.launched":
				meters[e.Subject] = &meter{prebuild: d.Kind == ForPrebuild, open: map[cost.Kind]time.Time{}}
				continue
			case e.Kind == "workspace.phase":
				ev.Phase = d.To
			case e.Kind == "workspace.condition" && lifecycle.ConditionKind(d.Kind) == lifecycle.IdleNow:
				ev.Idle, ev.Awake, ev.Since = !d.Over, d.Over, d.Since
			default:
				continue
			}
			m := meters[e.Subject]
			if m == nil {
				return nil, nil, fmt.Errorf("journal entry %d speaks of %s before its launch", e.Number, e.Subject)
			}
			for _, c := range cost.Apply(m.open, m.prebuild, ev) {
				if c.Open {
					m.open[c.Kind] = c.At
					continue
				}
				computed = append(computed, Metered{e.Subject, c.Kind, micros(m.open[c.Kind]), micros(c.At)})
				delete(m.open, c.Kind)
			}
		}
		if len(entries) < 1000 {
			break
		}
	}
	for id, m := range meters {
		for k, from := range m.open {
			computed = append(computed, Metered{id, k, micros(from), 0})
		}
	}
	for _, l := range [][]Metered{stored, computed} {
		sort.Slice(l, func(a, b int) bool {
			x, y := l[a], l[b]
			if x.Workspace != y.Workspace {
				return x.Workspace < y.Workspace
			}
			if x.From != y.From {
				return x.From < y.From
			}
			if x.Kind != y.Kind {
				return x.Kind < y.Kind
			}
			return x.To < y.To
		})
	}
	return stored, computed, nil
}
