package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sort"
	"time"

	"yardbench/internal/core/cost"
	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
)

type (
	meterReads  struct{ reader }
	meterWrites struct{ *txn }
)

// meter brings a journal entry into the intervals, in its transaction and at
// its time.
func (tx meterWrites) meter(ctx context.Context, w Workspace, e cost.Event) error {
	tx.touch(w.ID)
	e.At = tx.entryAt
	open, err := tx.openIntervals(ctx, w.ID)
	if err != nil {
		return err
	}
	for _, c := range cost.Apply(open, w.Kind == ForPrebuild, e) {
		if !c.Open {
			err = tx.closeInterval(ctx, w.ID, c)
		} else {
			err = tx.exec(ctx, `INSERT INTO intervals (workspace_id, owner_id, team_id, repository_id, kind, size, disk_bytes, from_at)
				VALUES (?1, ?2, COALESCE(CASE ?3 WHEN 'prebuild' THEN (SELECT team_id FROM repositories WHERE id = ?4) ELSE (SELECT team_id FROM people WHERE id = ?2) END, ''), ?4, ?5, ?6, ?7, ?8)`,
				w.ID, w.OwnerID, w.Kind, w.RepositoryID, c.Kind, w.Size, w.DiskBytes, micros(c.At))
		}
		if err != nil {
			return fmt.Errorf("meter %s of %s: %w", c.Kind, w.ID, err)
		}
	}
	return nil
}

// closeInterval ends a metered time, and adds it to the workspace's totals.
func (tx meterWrites) closeInterval(ctx context.Context, workspace string, c cost.Change) error {
	var from, disk int64
	var size string
	err := tx.db.QueryRowContext(ctx, "SELECT from_at, size, disk_bytes FROM intervals WHERE workspace_id = ? AND kind = ? AND to_at IS NULL", workspace, c.Kind).Scan(&from, &size, &disk)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	to := micros(c.At)
	if err := tx.exec(ctx, "UPDATE intervals SET to_at = ? WHERE workspace_id = ? AND kind = ? AND to_at IS NULL", to, workspace, c.Kind); err != nil {
		return err
	}
	versions, err := list(ctx, tx.reader, scanRulesTime, "SELECT version, at FROM rules WHERE at > ? OR version = (SELECT COALESCE(MAX(version), (SELECT MIN(version) FROM rules)) FROM rules WHERE at <= ?) ORDER BY version", from, from)
	if err != nil {
		return err
	}
	if len(versions) == 0 { // a service without rules yet
		versions = []rulesTime{{}}
	}
	for i, v := range versions {
		begin, end := from, to
		if i > 0 {
			begin = max(begin, v.at)
		}
		if i+1 < len(versions) {
			end = min(end, versions[i+1].at)
		}
		if end <= begin {
			continue
		}
		if err := tx.exec(ctx, `INSERT INTO totals (workspace_id, kind, size, disk_bytes, version, us) VALUES (?, ?, ?, ?, ?, ?)
			ON CONFLICT (workspace_id, kind, size, disk_bytes, version) DO UPDATE SET us = us + excluded.us`, workspace, c.Kind, size, disk, v.version, end-begin); err != nil {
			return err
		}
	}
	return nil
}

// rulesTime is when a version of the house rules came into force.
type rulesTime struct {
	version int
	at      int64
}

func scanRulesTime(scan func(...any) error) (r rulesTime, err error) {
	return r, scan(&r.version, &r.at)
}

func (q meterReads) openIntervals(ctx context.Context, workspace string) (map[cost.Kind]time.Time, error) {
	open := map[cost.Kind]time.Time{}
	_, err := list(ctx, q.reader, func(scan func(...any) error) (struct{}, error) {
		var k cost.Kind
		var at int64
		err := scan(&k, &at)
		open[k] = fromMicros(at)
		return struct{}{}, err
	}, "SELECT kind, from_at FROM intervals WHERE workspace_id = ? AND to_at IS NULL", workspace)
	return open, err
}

// Scope says whose intervals or entries are meant: somebody's, and those of teams; empty
// means everybody's.
type Scope struct {
	OwnerID string
	Teams   []string // by id
}

// Whole tells whether it is everybody's.
func (s Scope) Whole() bool { return s.OwnerID == "" && len(s.Teams) == 0 }

// Own tells whether it is one person's alone.
func (s Scope) Own() bool { return s.OwnerID != "" && len(s.Teams) == 0 }

// Holds tells whether what is an owner's, who is of a team, is in it.
func (s Scope) Holds(owner, team string) bool {
	return s.Whole() || s.OwnerID != "" && owner == s.OwnerID || team != "" && slices.Contains(s.Teams, team)
}

// teams are those as a query takes them.
func (s Scope) teams() string {
	text, err := json.Marshal(append([]string{}, s.Teams...))
	if err != nil { // plain texts always marshal
		panic(err)
	}
	return string(text)
}

// where narrows a query of workspaces to the scope, in words for which there
// is an index.
func (s Scope) where() (more string, args []any) {
	switch {
	case s.Whole():
		return "", nil
	case len(s.Teams) == 0:
		return " AND owner_id = ?", []any{s.OwnerID}
	}
	return " AND owner_id IN (SELECT ? UNION SELECT id FROM people WHERE team_id IN (SELECT value FROM json_each(?)))", []any{s.OwnerID, s.teams()}
}

// Intervals lists the metered time between from and to, with names.
func (q meterReads) Intervals(ctx context.Context, s Scope, from, to time.Time) ([]cost.Interval, error) {
	var out []cost.Interval
	where, args := "", []any{}
	switch {
	case s.Whole():
	case len(s.Teams) == 0:
		where, args = " AND i.owner_id = ? AND w.kind = 'person'", []any{s.OwnerID}
	default:
		where, args = " AND (i.owner_id = ? AND w.kind = 'person' OR i.team_id IN (SELECT value FROM json_each(?)))", []any{s.OwnerID, s.teams()}
	}
	// What is over by its end, and what goes on.
	for _, part := range []struct {
		when string
		args []any
	}{{"i.to_at > ? AND i.from_at < ?", []any{micros(from), micros(to)}}, {"i.to_at IS NULL AND i.from_at < ?", []any{micros(to)}}} {
		rows, err := list(ctx, q.reader, func(scan func(...any) error) (i cost.Interval, err error) {
			var start int64
			var end sql.NullInt64
			var kind string
			err = scan(&i.Workspace, &kind, &i.Owner, &i.Team, &i.Repository, &i.Kind, &i.Size, &i.DiskBytes, &start, &end)
			if i.From = fromMicros(start); end.Valid {
				i.To = fromMicros(end.Int64)
			}
			if kind == ForPrebuild { // no person's in particular
				i.Owner, i.Workspace = "", "prebuilds of "+i.Repository
			} else {
				i.Workspace += "." + i.Owner
			}
			return i, err
		}, `SELECT w.name, w.kind, p.name, COALESCE(t.name, ''), r.name, i.kind, i.size, i.disk_bytes, i.from_at, i.to_at FROM intervals i
			JOIN workspaces w ON w.id = i.workspace_id JOIN people p ON p.id = i.owner_id JOIN repositories r ON r.id = i.repository_id
			LEFT JOIN teams t ON t.id = i.team_id WHERE `+part.when+where, append(part.args, args...)...)
		if err != nil {
			return nil, err
		}
		out = append(out, rows...)
	}
	return out, nil
}

// Usage is what a workspace has used: its sums of all time that is over, and
// its metered time since a day ago, that which goes on with it.
type Usage struct {
	Over   []cost.Sum
	Recent []cost.Interval
}

// UsageOf gives what one workspace has used; since is how far back its day goes.
func (q meterReads) UsageOf(ctx context.Context, workspace string, since time.Time) (Usage, error) {
	all, err := q.usage(ctx, "workspace_id = ?", since, workspace)
	return all[workspace], err
}

// Usages gives what people's workspaces that exist have used, by workspace; of
// one owner unless that is empty.
func (q meterReads) Usages(ctx context.Context, owner string, since time.Time) (map[string]Usage, error) {
	living := "workspace_id IN (SELECT id FROM workspaces WHERE phase <> 'removed' AND kind = 'person'"
	if owner == "" {
		return q.usage(ctx, living+")", since)
	}
	return q.usage(ctx, living+" AND owner_id = ?)", since, owner)
}

func (q meterReads) usage(ctx context.Context, which string, since time.Time, args ...any) (map[string]Usage, error) {
	out := map[string]Usage{}
	_, err := list(ctx, q.reader, func(scan func(...any) error) (struct{}, error) {
		var id string
		var s cost.Sum
		var us int64
		err := scan(&id, &s.Kind, &s.Size, &s.DiskBytes, &s.Version, &us)
		s.Time = time.Duration(us) * time.Microsecond
		u := out[id]
		u.Over = append(u.Over, s)
		out[id] = u
		return struct{}{}, err
	}, "SELECT workspace_id, kind, size, disk_bytes, version, us FROM totals WHERE "+which, args...)
	if err != nil {
		return nil, err
	}
	recent := func(when string, args ...any) error {
		_, err := list(ctx, q.reader, func(scan func(...any) error) (struct{}, error) {
			var id string
			var i cost.Interval
			var start int64
			var end sql.NullInt64
			err := scan(&id, &i.Kind, &i.Size, &i.DiskBytes, &start, &end)
			if i.From = fromMicros(start); end.Valid {
				i.To = fromMicros(end.Int64)
			}
			u := out[id]
			u.Recent = append(u.Recent, i)
			out[id] = u
			return struct{}{}, err
		}, "SELECT workspace_id, kind, size, disk_bytes, from_at, to_at FROM intervals WHERE "+which+when, args...)
		return err
	}
	if err := recent(" AND to_at > ? ORDER BY from_at", append(slices.Clone(args), micros(since))...); err != nil {
		return nil, err
	}
	return out, recent(" AND to_at IS NULL ORDER BY from_at", args...)
}

// Unsummed lists the workspaces whose sums are not those of their intervals:
// none, whatever ended the service meanwhile.
func (q meterReads) Unsummed(ctx context.Context) ([]string, error) {
	return list(ctx, q.reader, func(scan func(...any) error) (id string, err error) { return id, scan(&id) }, `SELECT COALESCE(a.workspace_id, b.workspace_id) FROM
		(SELECT workspace_id, kind, SUM(to_at - from_at) AS us FROM intervals WHERE to_at IS NOT NULL GROUP BY 1, 2 HAVING us > 0) a FULL JOIN (SELECT workspace_id, kind, SUM(us) AS us FROM totals GROUP BY 1, 2) b
		ON a.workspace_id = b.workspace_id AND a.kind = b.kind WHERE a.us IS NOT b.us`)
}

// Metered is one stored interval, as Remeter compares it.
type Metered struct {
	Workspace string
	Kind      cost.Kind
	From, To  int64 // microseconds; To is 0 while it goes on
}

// Remeter meters the whole journal anew and gives what is stored beside what
// it came to: they are the same, whatever ended the service meanwhile.
func (q meterReads) Remeter(ctx context.Context) (stored, computed []Metered, err error) {
	stored, err = list(ctx, q.reader, func(scan func(...any) error) (m Metered, err error) {
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
		entries, err := journalReads{q.reader}.JournalAfter(ctx, after, "", "", 1000)
		if err != nil {
			return nil, nil, err
		}
		for _, e := range entries {
			after = e.Number
			ev := cost.Event{At: e.At}
			switch e.Kind {
			case journal.WorkspaceLaunched{}.Kind():
				var d journal.WorkspaceLaunched
				err = json.Unmarshal(e.Data, &d)
				meters[e.Subject] = &meter{prebuild: d.For == ForPrebuild, open: map[cost.Kind]time.Time{}}
			case journal.WorkspacePhase{}.Kind():
				var d journal.WorkspacePhase
				err = json.Unmarshal(e.Data, &d)
				ev.Phase = d.To
			case journal.ConditionBegun{}.Kind():
				var d struct { // of both kinds of entry
					journal.ConditionBegun
					Over bool `json:"over"`
				}
				if err = json.Unmarshal(e.Data, &d); d.Condition == lifecycle.IdleNow {
					ev.Idle, ev.Awake, ev.Since = !d.Over, d.Over, d.Since
				}
			}
			if err != nil {
				return nil, nil, fmt.Errorf("journal entry %d: %w", e.Number, err)
			}
			if ev.Phase == "" && !ev.Idle && !ev.Awake {
				continue // it is not metered
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
