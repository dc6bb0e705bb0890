// Package service holds the use cases. Every door calls these and nothing
// else. A use case reads what it needs, asks the core, writes what is wanted
// together with its journal entry, and wakes the keeper; it never waits for a
// yard, except where it has to look at work before it is thrown away.
package service

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"sync"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/keeper"
	"yardbench/internal/live"
	"yardbench/internal/repo"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/internal/wire"
)

// Service is the use cases over their rooms. All fields are set before use.
type Service struct {
	Store   *store.Store
	Keeper  *keeper.Keeper
	Hub     *outside.Hub
	Mirrors *repo.Mirrors
	Vault   *vault.Vault
	Bus     *live.Bus

	attempts attempts
}

// Actor is who asks: a signed-in person.
type Actor struct {
	store.Person
	TokenID string
}

func (a Actor) operator() bool { return a.Role == "operator" }

// Problems.

func problem(status int, kind, detail, next string) *wire.Problem {
	return &wire.Problem{Type: "urn:yardbench:problem:" + kind, Title: http.StatusText(status), Status: status, Detail: detail, Next: next}
}

func invalid(detail, next string) error {
	return problem(http.StatusUnprocessableEntity, "invalid", detail, next)
}

func notFound(what, name, next string) error {
	return problem(http.StatusNotFound, "not-found", "there is no "+what+" "+quote(name), next)
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
	case errors.Is(err, store.ErrBusy):
		return problem(http.StatusServiceUnavailable, "busy", err.Error(), "")
	}
	return err
}

// attempts counts failed sign-ins.
type attempts struct {
	mu    sync.Mutex
	count map[string][]int64
}

// Workspace views.

func (s *Service) view(ctx context.Context, q store.Q, w store.Workspace) (wire.Workspace, error) {
	owner, err := q.PersonByID(ctx, w.OwnerID)
	if err != nil {
		return wire.Workspace{}, err
	}
	r, err := q.RepositoryByID(ctx, w.RepositoryID)
	if err != nil {
		return wire.Workspace{}, err
	}
	cs, err := q.Conditions(ctx, w.ID)
	if err != nil {
		return wire.Workspace{}, err
	}
	def := w.Plan.Definition
	v := wire.Workspace{ID: w.ID, Name: w.Name, Owner: owner.Name, Repository: r.Name, Branch: w.Branch, Commit: w.Plan.Commit,
		Definition: def.Path, Image: def.Image, Folder: def.Folder, User: def.User, Ports: def.Ports, Phase: string(w.Phase),
		FailedIn: string(w.FailedIn), Cause: w.Cause, Wanted: string(w.Wanted), Conditions: []wire.Condition{}, CreatedAt: w.CreatedAt,
		PhaseAt: w.PhaseAt, Rebuilding: w.NextBody > 0}
	if def.Build != nil {
		v.Image = def.Build.Dockerfile
	}
	if v.Ports == nil {
		v.Ports = []int{}
	}
	for _, c := range cs {
		v.Conditions = append(v.Conditions, wire.Condition{Kind: string(c.Kind), Reason: c.Reason, Since: c.Since})
	}
	if sheet, err := q.CurrentSheet(ctx, w.ID); err == nil {
		v.Sheet = sheet.Number
	}
	return v, nil
}

func sheetView(sh store.Sheet, steps []store.Step) wire.Sheet {
	v := wire.Sheet{Number: sh.Number, Kind: string(sh.Kind), StartedAt: sh.StartedAt, EndedAt: sh.EndedAt, Outcome: string(sh.Outcome), Cause: sh.Cause, Steps: []wire.Step{}}
	for _, s := range steps {
		v.Steps = append(v.Steps, wire.Step{Number: s.Number, Parent: s.Parent, Title: s.Title, Attempt: s.Attempt, StartedAt: s.StartedAt,
			EndedAt: s.EndedAt, Cached: s.Cached, Outcome: string(s.Outcome), Cause: s.Cause})
	}
	return v
}

func entryView(e store.Entry) (wire.JournalEntry, error) {
	v := wire.JournalEntry{Number: e.Number, At: e.At, Kind: e.Kind, Subject: e.Subject, Actor: e.Actor}
	return v, json.Unmarshal(e.Data, &v.Data)
}

// MayWatch tells whether the actor may be told that something of a workspace
// changed.
func (s *Service) MayWatch(ctx context.Context, a Actor, workspace string) bool {
	if a.operator() {
		return true
	}
	w, err := s.Store.Read().WorkspaceByID(ctx, workspace)
	return err == nil && w.OwnerID == a.ID
}
