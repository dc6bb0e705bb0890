package service

import (
	"context"
	"slices"
	"strings"
	"time"

	"yardbench/internal/core/cost"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/page"
	"yardbench/internal/core/plain"
	"yardbench/internal/core/policy"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Part is one part of a list, and what to go on after; that is empty where
// nothing follows.
type Part[T any] struct {
	Items []T
	Next  string
}

// PartOf is the part of a list that is asked for.
func PartOf[T any](kind page.Kind[T], items []T, ask page.Ask) (Part[T], error) {
	part, next, err := kind.Cut(items, ask)
	if err != nil {
		return Part[T]{}, fromRoom(err)
	}
	return Part[T]{part, next}, nil
}

// One is the one of a list that is it; what and name say what there is none of.
func One[T any](items []T, err error, is func(T) bool, what, name string) (none T, _ error) {
	if err != nil {
		return none, err
	}
	if i := slices.IndexFunc(items, is); i >= 0 {
		return items[i], nil
	}
	return none, notFound(what, name, "")
}

// WorkspaceQuery says which workspaces are wanted; empty fields do not count.
type WorkspaceQuery struct {
	All                                   bool // everybody's whom the actor may see, not theirs alone
	Owner, Team, Repository, Branch, Size string
	States                                []string // phases and conditions: one of them is enough
	Find                                  string   // a part of the name, owner, repository or branch, whatever its case
	Cause                                 string   // the key of what they need somebody for
	page.Ask
}

// states are all that can be said of how a workspace is.
var states = func() (all []string) {
	for _, p := range lifecycle.Phases {
		all = append(all, string(p))
	}
	for _, c := range lifecycle.Conditions {
		all = append(all, string(c.Kind))
	}
	return all
}()

// Workspaces are ordered by these.
var workspaceOrders = []page.Order[*row]{
	{Name: "name", Key: func(r *row) string { return r.base.Name + "\x00" + r.base.Owner }},
	{Name: "owner", Key: func(r *row) string { return r.base.Owner + "\x00" + r.base.Name }},
	{Name: "team", Key: func(r *row) string { return r.base.Team + "\x00" + r.base.Owner + "\x00" + r.base.Name }},
	{Name: "repository", Key: func(r *row) string { return r.base.Repository + "\x00" + r.base.Branch }},
	{Name: "branch", Key: func(r *row) string { return r.base.Branch }},
	{Name: "phase", Key: func(r *row) string { return r.base.Phase }},
	{Name: "size", Key: func(r *row) string { return r.base.Size }},
	{Name: "phase_at", Key: func(r *row) string { return page.Number(r.base.PhaseAt.UnixMicro()) }},
	{Name: "hour", Key: func(r *row) string { return page.Number(r.base.HourMicros) }},
}

// WorkspaceOrders are the names of the orders of workspaces.
var WorkspaceOrders = append(page.Kind[*row]{Orders: workspaceOrders}.Names(), "cost")

// List lists the actor's workspaces; with All everybody's whom they may see.
func (s *Workspaces) List(ctx context.Context, a Actor, q WorkspaceQuery) (Part[wire.WorkspaceRow], error) {
	scope := store.Scope{OwnerID: a.ID}
	if q.All {
		var ok bool
		if scope, ok = a.scope(policy.SeeWorkspace); !ok || scope.Own() {
			return Part[wire.WorkspaceRow]{}, at(forbidden("your role sees your own workspaces only", "ask for those"), "all", "leave it out")
		}
	}
	for _, w := range q.States {
		if !slices.Contains(states, w) {
			next := "it is one of: " + strings.Join(states, ", ")
			if near := plain.Near(w, states); near != "" {
				next = "write " + quote(near) + ", if that is meant"
			}
			return Part[wire.WorkspaceRow]{}, invalidAs("unknown-word", "there is no state "+quote(w)+" of a workspace", next)
		}
	}
	return s.views.listed(ctx, a, scope, q)
}

// listed tells of those in a scope that are wanted.
func (s *views) listed(ctx context.Context, a Actor, scope store.Scope, q WorkspaceQuery) (out Part[wire.WorkspaceRow], err error) {
	rows, err := s.rows(ctx)
	if err != nil {
		return out, err
	}
	q.Find = strings.ToLower(strings.TrimSpace(q.Find))
	wanted := make([]*row, 0, len(rows))
	for _, r := range rows {
		if scope.Holds(r.w.OwnerID, r.teamID) && a.holds(r.w.RepositoryID) && q.fits(r) && (q.Cause == "" || s.needs(ctx, r, q.Cause)) {
			wanted = append(wanted, r)
		}
	}
	now := s.now().UTC()
	kind := page.Kind[*row]{Name: "workspaces", ID: func(r *row) string { return r.w.ID }, Orders: append(slices.Clip(workspaceOrders),
		page.Order[*row]{Name: "cost", Key: func(r *row) string { total, _ := r.cost.At(now); return page.Number(int64(total)) }})}
	part, err := PartOf(kind, wanted, q.Ask)
	if err != nil {
		return out, err
	}
	out = Part[wire.WorkspaceRow]{Items: make([]wire.WorkspaceRow, 0, len(part.Items)), Next: part.Next}
	for _, r := range part.Items {
		out.Items = append(out.Items, r.listed(now))
	}
	return out, nil
}

// listed is how a workspace stands in a list at a time.
func (r *row) listed(now time.Time) wire.WorkspaceRow {
	v := r.base
	total, _ := r.cost.At(now)
	return wire.WorkspaceRow{ID: v.ID, Name: v.Name, Owner: v.Owner, Team: v.Team, Repository: v.Repository, Branch: v.Branch, Phase: v.Phase, FailedIn: v.FailedIn, Cause: v.Cause,
		Conditions: v.Conditions, PhaseAt: v.PhaseAt, Size: v.Size, Adopted: v.Adopted, Currency: v.Currency, HourMicros: v.HourMicros, CostMicros: int64(total), Day: cost.Strip(r.recent, now)}
}

// rowsOf are those of some workspaces that stand in a list.
func (s *views) rowsOf(ctx context.Context, ids map[string]string) (map[string]*row, error) {
	rows, err := s.rows(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]*row{}
	for _, r := range rows {
		if _, wanted := ids[r.w.ID]; wanted {
			out[r.w.ID] = r
		}
	}
	return out, nil
}

// fits tells whether a workspace is wanted. Find is in small letters.
func (q WorkspaceQuery) fits(r *row) bool {
	is := func(wanted, has string) bool { return wanted == "" || wanted == has }
	found := q.Find == "" || slices.ContainsFunc([]string{r.base.Name, r.base.Owner, r.base.Repository, r.base.Branch}, func(s string) bool { return strings.Contains(strings.ToLower(s), q.Find) })
	in := len(q.States) == 0 || slices.Contains(q.States, r.base.Phase) ||
		slices.ContainsFunc(r.conditions, func(c lifecycle.Condition) bool { return slices.Contains(q.States, string(c.Kind)) })
	return found && in && is(q.Owner, r.base.Owner) && is(q.Team, r.base.Team) && is(q.Repository, r.base.Repository) && is(q.Branch, r.base.Branch) && is(q.Size, r.base.Size)
}
