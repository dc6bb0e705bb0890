package service

import (
	"cmp"
	"context"
	"slices"
	"sync"
	"time"

	"yardbench/internal/core/cost"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/rules"
	"yardbench/internal/store"
	"yardbench/wire"
)

// fleet keeps what is told of people's workspaces in memory, so that a list of
// all costs little however often it is looked at. What was written since the
// last look is read anew; what the time brings is computed at each.
type fleet struct {
	mu   sync.Mutex
	mark store.Mark
	rows []*row // by name and owner; a row is replaced and never changed
}

// row is what is told of one workspace, but for what the time brings.
type row struct {
	w          store.Workspace
	teamID     string
	base       wire.Workspace
	conditions []lifecycle.Condition
	hold       store.Hold
	house      *rules.Rules
	recent     []cost.Interval
	cost       cost.Ongoing
	failing    sync.Once // the step that failed is read when it is first asked for
	step       failedStep
}

// mostOneByOne bounds how many are read one by one before all are read at once.
const mostOneByOne = 40

// rows brings the fleet up to now.
func (s *views) rows(ctx context.Context) ([]*row, error) {
	f := &s.fleet
	f.mu.Lock()
	defer f.mu.Unlock()
	mark, ids, all := s.store.Changed(f.mark)
	if len(ids) == 0 && !all {
		return f.rows, nil
	}
	q := s.store.Read()
	var rows []*row
	if all || len(ids) > mostOneByOne+len(f.rows)/10 {
		var err error
		if rows, err = s.readAll(ctx, q); err != nil {
			return nil, err
		}
	} else {
		rows = slices.DeleteFunc(slices.Clone(f.rows), func(r *row) bool { _, changed := slices.BinarySearch(ids, r.w.ID); return changed })
		for _, id := range ids {
			w, err := q.WorkspaceByID(ctx, id)
			if err != nil {
				return nil, err
			}
			if w.Phase == lifecycle.Removed || w.Kind != store.ForPerson {
				continue
			}
			r, err := s.read(ctx, q, w)
			if err != nil {
				return nil, err
			}
			rows = append(rows, r)
		}
	}
	slices.SortFunc(rows, func(a, b *row) int {
		return cmp.Or(cmp.Compare(a.w.Name, b.w.Name), cmp.Compare(a.w.OwnerID, b.w.OwnerID))
	})
	f.mark, f.rows = mark, rows
	return rows, nil
}

// readAll reads all that exist, with a few queries for all of them together.
func (s *views) readAll(ctx context.Context, q store.Q) ([]*row, error) {
	ws, err := q.PeoplesWorkspaces(ctx, store.Scope{})
	if err != nil {
		return nil, err
	}
	people, err := q.People(ctx, store.Scope{})
	if err != nil {
		return nil, err
	}
	repositories, err := q.Repositories(ctx)
	if err != nil {
		return nil, err
	}
	conditions, err := q.AllConditions(ctx)
	if err != nil {
		return nil, err
	}
	holds, err := q.Holds(ctx)
	if err != nil {
		return nil, err
	}
	sheets, err := q.NewestSheets(ctx)
	if err != nil {
		return nil, err
	}
	used, err := q.Usages(ctx, "", s.now().Add(-24*time.Hour))
	if err != nil {
		return nil, err
	}
	house, rates, err := s.pricing(ctx, q)
	if err != nil {
		return nil, err
	}
	personBy, repositoryBy := map[string]store.Person{}, map[string]store.Repository{}
	for _, p := range people {
		personBy[p.ID] = p
	}
	for _, r := range repositories {
		repositoryBy[r.ID] = r
	}
	out := make([]*row, 0, len(ws))
	for _, w := range ws {
		out = append(out, s.rowOf(w, around{personBy[w.OwnerID], repositoryBy[w.RepositoryID], conditions[w.ID], holds[w.ID], sheets[w.ID], used[w.ID], &house, rates}))
	}
	return out, nil
}

// at is what is told of a workspace at a time.
func (s *views) at(r *row, now time.Time) wire.Workspace {
	v := r.base
	v.DiskUsedBytes = s.keeper.Status.DiskBytes(v.ID)
	v.Asks = []wire.Ask{}
	for _, a := range s.keeper.Status.Asks(v.ID) {
		v.Asks = append(v.Asks, wire.Ask{Name: a.Name, Says: a.Says, Absent: a.Absent, Since: a.Since})
	}
	if r.w.Phase == lifecycle.Ready && r.w.Plan.Adopted == nil {
		verdict := s.keeper.Rest.Verdict(*r.house, r.w, r.hold, r.conditions)
		v.Rest = &wire.Rest{LastSignAt: verdict.Last, LastSign: verdict.What, Idle: verdict.Idle, Warn: verdict.Warn, StopsAt: verdict.StopAt}
		if verdict.Held {
			v.Rest.HeldUntil, v.Rest.HoldWhy = &r.hold.Until, r.hold.Why
		}
	}
	total, idle := r.cost.At(now)
	v.CostMicros, v.IdleMicros = int64(total), int64(idle)
	v.Day = dayStrip(r.recent, now)
	return v
}
