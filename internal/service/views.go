package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"yardbench/internal/core/cost"
	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/reconcile"
	"yardbench/internal/store"
	"yardbench/wire"
)

// views finds workspaces and tells of them; others of this room use it.
type views struct {
	bus    *live.Bus
	house  *house.Book
	keeper *reconcile.Keeper
	store  *store.Store
	now    func() time.Time
	fleet  fleet
}

// pricing reads the house rules and the rates of all their versions.
func (s *views) pricing(ctx context.Context, q store.Q) (house rules.Rules, rates []cost.Since, err error) {
	if house, _, err = s.house.Rules(ctx, q); err == nil {
		rates, err = s.house.Rates(ctx, q)
	}
	return house, rates, err
}

// view tells of one workspace.
func (s *views) view(ctx context.Context, q store.Q, w store.Workspace) (wire.Workspace, error) {
	r, err := s.read(ctx, q, w)
	if err != nil {
		return wire.Workspace{}, err
	}
	return s.at(r, s.now().UTC()), nil
}

// read reads what stands around a workspace.
func (s *views) read(ctx context.Context, q store.Q, w store.Workspace) (*row, error) {
	var a around
	var err error
	if a.used, err = q.UsageOf(ctx, w.ID, s.now().Add(-24*time.Hour)); err != nil {
		return nil, err
	}
	if a.owner, err = q.PersonByID(ctx, w.OwnerID); err != nil {
		return nil, err
	}
	if a.repository, err = q.RepositoryByID(ctx, w.RepositoryID); err != nil {
		return nil, err
	}
	if a.conditions, err = q.Conditions(ctx, w.ID); err != nil {
		return nil, err
	}
	if a.hold, err = q.HoldOf(ctx, w.ID); err != nil {
		return nil, err
	}
	if sheet, err := q.CurrentSheet(ctx, w.ID); err == nil {
		a.sheet = sheet.Number
	}
	house, rates, err := s.pricing(ctx, q)
	if err != nil {
		return nil, err
	}
	a.rates = rates
	a.house = &house
	return s.rowOf(w, a), nil
}

// around is what stands around a workspace's row in other tables.
type around struct {
	owner      store.Person
	repository store.Repository
	conditions []lifecycle.Condition
	hold       store.Hold
	sheet      int // the newest one's number
	used       store.Usage
	house      *rules.Rules
	rates      []cost.Since
}

// rowOf is what is told of a workspace with what stands around it.
func (s *views) rowOf(w store.Workspace, a around) *row {
	owner, r, house := a.owner, a.repository, a.house
	def := w.Plan.Definition
	v := wire.Workspace{ID: w.ID, Name: w.Name, Owner: owner.Name, Team: owner.Team, Repository: r.Name, Branch: w.Branch, Commit: w.Plan.Commit,
		Definition: def.Path, Image: imageOf(def), Folder: def.Folder, User: def.Person(), Ports: def.Ports, Phase: string(w.Phase),
		FailedIn: string(w.FailedIn), Cause: w.Cause, Wanted: string(w.Wanted), Conditions: []wire.Condition{}, Asks: []wire.Ask{}, CreatedAt: w.CreatedAt,
		PhaseAt: w.PhaseAt, Rebuilding: w.NextBody > 0, Sheet: a.sheet, Size: w.Size, CoresMilli: w.CoresMilli, MemoryBytes: w.MemoryBytes, DiskBytes: w.DiskBytes,
		Prepared: preparedView(w.Plan.Prepared), Scratch: w.Plan.Scratch, Currency: house.Currency,
		HourMicros: int64(cost.Hourly(house.Rates, w.Size, rules.Size{DiskBytes: w.DiskBytes}))}
	if v.Ports == nil {
		v.Ports = []int{}
	}
	if def.Compose != nil {
		v.Services = len(def.Compose.Services)
	}
	if w.Plan.Adopted != nil {
		v.Adopted = w.Plan.Adopted.Name
	}
	for _, c := range a.conditions {
		v.Conditions = append(v.Conditions, wire.Condition{Kind: string(c.Kind), Reason: c.Reason, Since: c.Since})
	}
	if w.Phase == lifecycle.Stopped && w.Plan.Adopted == nil {
		at := house.RemovesAt(w.PhaseAt)
		v.RemovesAt = &at
	}
	var open []cost.Interval
	for _, i := range a.used.Recent {
		if i.To.IsZero() {
			open = append(open, i)
		}
	}
	return &row{w: w, teamID: owner.TeamID, base: v, conditions: a.conditions, hold: a.hold, house: house, recent: a.used.Recent,
		cost: cost.NewOngoing(a.used.Over, open, a.rates, s.now().UTC())}
}

// dayStrip is the last 24 hours of metered time.
func dayStrip(metered []cost.Interval, now time.Time) []wire.Stretch {
	out := []wire.Stretch{}
	begin := now.Add(-24 * time.Hour)
	for _, i := range metered {
		if i.Kind != cost.Running && i.Kind != cost.Idle {
			continue
		}
		if i.To.IsZero() {
			i.To = now
		}
		if i.From.Before(begin) {
			i.From = begin
		}
		if i.To.After(i.From) {
			state := "active"
			if i.Kind == cost.Idle {
				state = "idle"
			}
			out = append(out, wire.Stretch{From: i.From, To: i.To, State: state})
		}
	}
	return out
}

func imageOf(def definition.Definition) string {
	if def.Build != nil {
		return cmp.Or(def.Build.Dockerfile, def.Path)
	}
	return def.Image
}

func preparedView(p *store.Prepared) *wire.Prepared {
	if p == nil {
		return nil
	}
	return &wire.Prepared{Number: p.Number, MadeAt: p.MadeAt, Behind: p.Behind}
}

// timed puts the usual times of a sheet's steps beside them, and says where
// time could be saved.
func (s *views) timed(ctx context.Context, v *wire.Sheet, w store.Workspace, sh store.Sheet, steps []store.Step) error {
	usual, err := s.store.Read().StepTimes(ctx, w.RepositoryID, sh.Kind)
	if err != nil {
		return err
	}
	plans, err := s.store.Read().PrebuildPlans(ctx, w.RepositoryID)
	if err != nil {
		return err
	}
	var spent []lifecycle.Spent
	for i, st := range steps {
		if st.Parent != 0 {
			continue
		}
		if times := usual[store.StepKind{Key: st.Key, Cached: st.Cached}]; len(times) > 1 {
			usual, slow := lifecycle.Typical(times)
			v.Steps[i].UsualMS, v.Steps[i].SlowMS = usual.Milliseconds(), slow.Milliseconds()
		}
		if st.EndedAt != nil {
			spent = append(spent, lifecycle.Spent{Key: st.Key, Title: st.Title, Took: st.EndedAt.Sub(st.StartedAt), Cached: st.Cached})
		}
	}
	if sh.Kind == lifecycle.LaunchSheet && sh.Outcome == lifecycle.Done {
		v.Hint = lifecycle.Hint(spent, w.Plan.Prepared != nil, len(plans) > 0)
	}
	return nil
}

func sheetRow(sh store.Sheet) wire.SheetRow {
	return wire.SheetRow{Number: sh.Number, Kind: string(sh.Kind), StartedAt: sh.StartedAt, EndedAt: sh.EndedAt, Outcome: string(sh.Outcome), Cause: sh.Cause}
}

func sheetView(sh store.Sheet, steps []store.Step) wire.Sheet {
	v := wire.Sheet{SheetRow: sheetRow(sh), Steps: []wire.Step{}}
	for _, s := range steps {
		v.Steps = append(v.Steps, wire.Step{Number: s.Number, Parent: s.Parent, Title: s.Title, Attempt: s.Attempt, StartedAt: s.StartedAt,
			EndedAt: s.EndedAt, Cached: s.Cached, Bytes: s.Bytes, Outcome: string(s.Outcome), Cause: s.Cause})
	}
	return v
}

// find resolves NAME or NAME.OWNER among what the actor may see. What they
// may not see does not exist for them.
func (s *views) find(ctx context.Context, a Actor, ref string) (store.Workspace, error) {
	w, _, err := s.findOwned(ctx, a, ref)
	return w, err
}

// findOwned also takes a workspace's id, as logs, labels and events have it; a name comes first.
func (s *views) findOwned(ctx context.Context, a Actor, ref string) (store.Workspace, store.Person, error) {
	w, owner, err := s.findNamed(ctx, a, ref)
	if problem := (*fault.Fault)(nil); !isID(ref) || !errors.As(err, &problem) || problem.Kind != "not-found" {
		return w, owner, err
	}
	q := s.store.Read()
	of, gerr := q.WorkspaceByID(ctx, ref)
	if gerr != nil || of.Kind != store.ForPerson || of.Phase == lifecycle.Removed || !a.holds(of.RepositoryID) {
		return w, owner, err
	}
	whose, gerr := q.PersonByID(ctx, of.OwnerID)
	if gerr != nil || whose.ID != a.ID && !a.mayOf(policy.SeeWorkspace, whose) {
		return w, owner, err
	}
	return of, whose, nil
}

// isID tells whether a text has the form of [store.NewID].
func isID(s string) bool {
	return len(s) == 16 && strings.Trim(s, "abcdefghijklmnopqrstuvwxyz234567") == ""
}

func (s *views) findNamed(ctx context.Context, a Actor, ref string) (store.Workspace, store.Person, error) {
	none := notFound("workspace", ref, "see yours", fault.Do("list-workspaces", ""))
	name, ownerName, other := cutRef(ref)
	owner := a.Person
	if other && ownerName != a.Name {
		p, err := s.store.Read().PersonByName(ctx, ownerName)
		if errors.Is(err, store.ErrNotFound) || (err == nil && !a.mayOf(policy.SeeWorkspace, p)) {
			return store.Workspace{}, p, none
		}
		if err != nil {
			return store.Workspace{}, p, err
		}
		owner = p
	}
	w, err := s.store.Read().WorkspaceByName(ctx, owner.ID, name)
	if errors.Is(err, store.ErrNotFound) || (err == nil && (w.Kind != store.ForPerson || !a.holds(w.RepositoryID))) {
		return w, owner, none
	}
	return w, owner, err
}

// findEver finds the workspace of a name that is there, or, where none is, the last that was.
func (s *views) findEver(ctx context.Context, a Actor, ref string) (store.Workspace, error) {
	w, owner, err := s.findOwned(ctx, a, ref)
	if problem := (*fault.Fault)(nil); !errors.As(err, &problem) || problem.Kind != "not-found" || owner.ID == "" || !a.mayOf(policy.SeeWorkspace, owner) {
		return w, err
	}
	name, _, _ := cutRef(ref)
	gone, gerr := s.store.Read().RemovedWorkspace(ctx, owner.ID, name)
	if errors.Is(gerr, store.ErrNotFound) || (gerr == nil && (gone.Kind != store.ForPerson || !a.holds(gone.RepositoryID))) {
		return w, err
	}
	return gone, gerr
}

// cutRef takes NAME.OWNER apart; other is false where no owner is named.
func cutRef(ref string) (name, owner string, other bool) { return strings.Cut(ref, ".") }

// findTo is find for an action that needs more than seeing.
func (s *views) findTo(ctx context.Context, a Actor, ref string, action policy.Action, what string) (store.Workspace, store.Person, error) {
	w, owner, err := s.findOwned(ctx, a, ref)
	if err == nil && !a.mayOf(action, owner) {
		return w, owner, forbidden(fmt.Sprintf("this is %s's workspace; your role, %s, does not allow you to %s it", owner.Name, a.Role, what), "ask "+owner.Name)
	}
	return w, owner, err
}
