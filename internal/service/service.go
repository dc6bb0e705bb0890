// Package service holds the use cases. Every door calls these and nothing
// else. A use case reads what it needs, asks the core, writes what is wanted
// together with its journal entry, and wakes the keeper; it never waits for a
// yard, except where it has to look at work before it is thrown away.
package service

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	"yardbench/internal/core/cost"
	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/house"
	"yardbench/internal/keeper"
	"yardbench/internal/live"
	"yardbench/internal/password"
	"yardbench/internal/repo"
	"yardbench/internal/session"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/internal/wire"
	"yardbench/internal/yard"
)

// Service is the use cases over their rooms. All fields are set before use.
type Service struct {
	Store    *store.Store
	Keeper   *keeper.Keeper
	House    *house.Book
	Sessions *session.Sessions
	Hub      keeper.Stewards
	Mirrors  Mirrors
	Vault    *vault.Vault
	Bus      *live.Bus

	// Simulated tells that nothing really runs in the yard.
	Simulated bool
	// JournalKey signs the heads of the journal.
	JournalKey ed25519.PrivateKey

	// Address is the console's address, as people reach it.
	Address string
	// Now is the clock; nil is the real one.
	Now func() time.Time

	attempts password.Attempts
	usedAt   struct { // sign-ins, as noted or being noted
		mu sync.Mutex
		of map[string]time.Time
	}
	passes passes
	feed   feed
	read   plansRead
	heads  headsSeen
	tried  tries
}

// Mirrors is what is asked of the copies of repositories; see repo.Mirrors.
type Mirrors interface {
	keeper.Trees
	DefaultBranch(ctx context.Context, address string, c repo.Credential) (string, error)
	Fetch(ctx context.Context, id, address string, c repo.Credential) error
	Resolve(ctx context.Context, id, branch string) (string, error)
	Behind(ctx context.Context, id, commit, head string) (int, error)
	List(ctx context.Context, id, commit, folder string) ([]string, error)
	Files(ctx context.Context, id, commit, folder string, max int, maxBytes int64) ([]repo.File, error)
	Tree(ctx context.Context, id, commit, folder string) (string, error)
}

func (s *Service) now() time.Time {
	if s.Now == nil {
		return time.Now()
	}
	return s.Now()
}

// Actor is who asks: a signed-in person.
type Actor struct {
	store.Person
	TokenID string
}

// may tells whether the actor may do an action with what is nobody's in
// particular.
func (a Actor) may(action policy.Action) bool { return policy.May(a.Role, action, policy.House) }

// mayOf tells whether the actor may do an action with somebody's matter.
func (a Actor) mayOf(action policy.Action, owner store.Person) bool {
	return policy.May(a.Role, action, policy.Between(a.ID, a.TeamID, owner.ID, owner.TeamID))
}

// denied is the refusal of an action that one may know of.
func denied(a Actor, what string) error {
	return forbidden(fmt.Sprintf("your role, %s, does not allow you to %s", a.Role, what), "ask an operator")
}

// scope is whose matters the actor may see a list of, at the widest. ok is
// false when they may see none.
func (a Actor) scope(action policy.Action) (s store.Scope, ok bool) {
	switch policy.Widest(a.Role, action) {
	case policy.Other:
		return store.Scope{}, true
	case policy.Team:
		if a.TeamID != "" {
			return store.Scope{TeamID: a.TeamID}, true
		}
		return store.Scope{OwnerID: a.ID}, true
	case policy.Own:
		return store.Scope{OwnerID: a.ID}, true
	}
	return s, false
}

// Problems.

func problem(status int, kind, detail, next string) *wire.Problem {
	return &wire.Problem{Type: "urn:yardbench:problem:" + kind, Title: http.StatusText(status), Status: status, Detail: detail, Next: next}
}

func invalid(detail, next string) error {
	return problem(http.StatusUnprocessableEntity, "invalid", detail, next)
}

func notFound(what, name, next string) error {
	if name != "" {
		what += " " + quote(name)
	}
	return problem(http.StatusNotFound, "not-found", "there is no "+what, next)
}

func conflict(kind, detail, next string) error {
	return problem(http.StatusConflict, kind, detail, next)
}

func forbidden(detail, next string) error {
	return problem(http.StatusForbidden, "forbidden", detail, next)
}

func quote(s string) string {
	if len(s) > 80 {
		s = s[:80] + "…"
	}
	return "“" + s + "”"
}

// fromRoom puts the errors of the rooms beneath into a problem.
func fromRoom(err error) error {
	var now lifecycle.NotNow
	var rp repo.Problem
	var refused outside.Refused
	switch {
	case errors.As(err, &refused):
		return invalid(refused.Error(), "")
	case errors.As(err, &now):
		return conflict("not-now", now.Error(), "")
	case errors.As(err, &rp):
		return invalid(rp.What, rp.Next)
	case errors.Is(err, outside.ErrAway):
		return problem(http.StatusServiceUnavailable, "steward-away", err.Error(), "try again in a moment; if it stays away: yardbench stop, then start")
	case errors.Is(err, yard.ErrAway):
		return problem(http.StatusServiceUnavailable, "yard-away", err.Error(), "try again when it answers")
	case errors.Is(err, yard.ErrRefused):
		return conflict("yard-refuses", err.Error(), "")
	case errors.Is(err, store.ErrBusy):
		return problem(http.StatusServiceUnavailable, "busy", err.Error(), "")
	}
	return err
}

// timed puts the usual times of a sheet's steps beside them, and says where
// time could be saved.
func (s *Service) timed(ctx context.Context, v *wire.Sheet, w store.Workspace, sh store.Sheet, steps []store.Step) error {
	usual, err := s.Store.Read().StepTimes(ctx, w.RepositoryID, sh.Kind)
	if err != nil {
		return err
	}
	plans, err := s.Store.Read().PrebuildPlans(ctx, w.RepositoryID)
	if err != nil {
		return err
	}
	var spent []lifecycle.Spent
	for i, st := range steps {
		if st.Parent != 0 {
			continue
		}
		if times := usual[store.StepKind{Key: st.Key, Cached: st.Cached}]; len(times) > 1 {
			v.Steps[i].UsualMS, v.Steps[i].SlowMS = times[len(times)/2].Milliseconds(), times[min(len(times)-1, len(times)*19/20)].Milliseconds()
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

func sheetView(sh store.Sheet, steps []store.Step) wire.Sheet {
	v := wire.Sheet{Number: sh.Number, Kind: string(sh.Kind), StartedAt: sh.StartedAt, EndedAt: sh.EndedAt, Outcome: string(sh.Outcome), Cause: sh.Cause, Steps: []wire.Step{}}
	for _, s := range steps {
		v.Steps = append(v.Steps, wire.Step{Number: s.Number, Parent: s.Parent, Title: s.Title, Attempt: s.Attempt, StartedAt: s.StartedAt,
			EndedAt: s.EndedAt, Cached: s.Cached, Bytes: s.Bytes, Outcome: string(s.Outcome), Cause: s.Cause})
	}
	return v
}

// view tells of one workspace.
func (s *Service) view(ctx context.Context, q store.Q, w store.Workspace) (wire.Workspace, error) {
	var a around
	var err error
	if a.used, err = q.UsageOf(ctx, w.ID, s.now().Add(-24*time.Hour)); err != nil {
		return wire.Workspace{}, err
	}
	if a.owner, err = q.PersonByID(ctx, w.OwnerID); err != nil {
		return wire.Workspace{}, err
	}
	if a.repository, err = q.RepositoryByID(ctx, w.RepositoryID); err != nil {
		return wire.Workspace{}, err
	}
	if a.conditions, err = q.Conditions(ctx, w.ID); err != nil {
		return wire.Workspace{}, err
	}
	if a.hold, err = q.HoldOf(ctx, w.ID); err != nil {
		return wire.Workspace{}, err
	}
	if sheet, err := q.CurrentSheet(ctx, w.ID); err == nil {
		a.sheet = sheet.Number
	}
	if a.house, a.rates, err = s.pricing(ctx, q); err != nil {
		return wire.Workspace{}, err
	}
	return s.viewOf(w, a), nil
}

// around is what stands around a workspace's row in other tables.
type around struct {
	owner      store.Person
	repository store.Repository
	conditions []lifecycle.Condition
	hold       store.Hold
	sheet      int // the newest one's number
	used       store.Usage
	house      rules.Rules
	rates      []cost.Since
}

// pricing reads the house rules and the rates of all their versions.
func (s *Service) pricing(ctx context.Context, q store.Q) (house rules.Rules, rates []cost.Since, err error) {
	if house, _, err = s.House.Rules(ctx, q); err == nil {
		rates, err = s.House.Rates(ctx, q)
	}
	return house, rates, err
}

// views tells of many workspaces, with a few reads for all of them together.
func (s *Service) views(ctx context.Context, q store.Q, ws []store.Workspace, owner string) ([]wire.Workspace, error) {
	people, err := q.People(ctx, "")
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
	used, err := q.Usages(ctx, owner, s.now().Add(-24*time.Hour))
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
	out := []wire.Workspace{}
	for _, w := range ws {
		out = append(out, s.viewOf(w, around{personBy[w.OwnerID], repositoryBy[w.RepositoryID], conditions[w.ID], holds[w.ID], sheets[w.ID], used[w.ID], house, rates}))
	}
	return out, nil
}

// viewOf tells of one workspace with what stands around it.
func (s *Service) viewOf(w store.Workspace, a around) wire.Workspace {
	owner, r, house := a.owner, a.repository, a.house
	def := w.Plan.Definition
	v := wire.Workspace{ID: w.ID, Name: w.Name, Owner: owner.Name, Team: owner.Team, Repository: r.Name, Branch: w.Branch, Commit: w.Plan.Commit,
		Definition: def.Path, Image: imageOf(def), Folder: def.Folder, User: def.Person(), Ports: def.Ports, Phase: string(w.Phase),
		FailedIn: string(w.FailedIn), Cause: w.Cause, Wanted: string(w.Wanted), Conditions: []wire.Condition{}, CreatedAt: w.CreatedAt,
		PhaseAt: w.PhaseAt, Rebuilding: w.NextBody > 0, Sheet: a.sheet, Size: w.Size, CoresMilli: w.CoresMilli, MemoryBytes: w.MemoryBytes, DiskBytes: w.DiskBytes,
		DiskUsedBytes: s.Keeper.DiskBytes(w.ID), Prepared: preparedView(w.Plan.Prepared), Scratch: w.Plan.Scratch, Currency: house.Currency, Day: []wire.Stretch{},
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
	if w.Phase == lifecycle.Ready && w.Plan.Adopted == nil {
		verdict, hold := s.Keeper.Verdict(house, w, a.hold, a.conditions), a.hold
		v.Rest = &wire.Rest{LastSignAt: verdict.Last, LastSign: verdict.What, Idle: verdict.Idle, Warn: verdict.Warn, StopsAt: verdict.StopAt}
		if verdict.Held {
			v.Rest.HeldUntil, v.Rest.HoldWhy = &hold.Until, hold.Why
		}
	}
	if w.Phase == lifecycle.Stopped && w.Plan.Adopted == nil {
		at := w.PhaseAt.Add(house.StoppedMost)
		v.RemovesAt = &at
	}
	now := s.now().UTC()
	var open []cost.Interval
	for _, i := range a.used.Recent {
		if i.To.IsZero() {
			open = append(open, i)
		}
	}
	row := cost.Price(a.used.Over, open, a.rates, now)
	v.CostMicros, v.IdleMicros = int64(row.Total), int64(row.IdleMoney)
	v.Day = dayStrip(a.used.Recent, now)
	return v
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

func entryView(e store.Entry) (wire.JournalEntry, error) {
	v := wire.JournalEntry{Number: e.Number, At: e.At, Kind: e.Kind, Subject: e.Subject, Actor: e.Actor}
	return v, json.Unmarshal(e.Data, &v.Data)
}
