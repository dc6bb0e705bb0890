package service

import (
	"context"
	"log/slog"
	"strings"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/wire"
)

// mostReason bounds why an operator enters, in bytes.
const mostReason = 300

// enters finds the workspace of somebody else that the actor enters for a reason; ok is
// false where it is the actor's own, which needs none.
func (s *Sessions) enters(ctx context.Context, a Actor, ref, reason string) (w store.Workspace, ok bool, err error) {
	w, owner, err := s.views.findOwned(ctx, a, ref)
	if err != nil || owner.ID == a.ID {
		return w, false, err
	}
	if !a.mayOf(policy.EnterWorkspace, owner) {
		return w, false, forbidden("this is "+owner.Name+"'s workspace; your role, "+string(a.Role)+", does not allow you to enter it", "ask "+owner.Name+" to let you look at a terminal")
	}
	rules, _, err := s.views.house.Rules(ctx, s.store.Read())
	if err != nil {
		return w, false, err
	}
	if !rules.Workspaces.OperatorsEnter {
		return w, false, forbidden("the house rules have nobody enter the workspaces of others", "ask "+owner.Name+" to let you look at a terminal; or say workspaces: {enter: operators} there")
	}
	if strings.TrimSpace(reason) == "" || hasControl(reason) || len(reason) > mostReason {
		return w, false, at(invalid("the reason is missing, or holds what nobody can read", ""), "/reason", "say why in one line; "+owner.Name+" reads it")
	}
	return w, true, nil
}

// byLabel is the label of an operator's own terminal or command, by their name and the
// label that they gave it: none that its owner's has by itself.
func byLabel(name, label string) string {
	out := "by-" + strings.ReplaceAll(name, ".", "-")[:min(len(name), 12)]
	if label != "" && label != "main" {
		out += "-" + label[:min(len(label), 32-len(out)-1)]
	}
	return strings.Trim(out, "-")
}

// enter opens a command or a terminal in somebody else's workspace, with nothing that is
// its owner's: no secret is given to it, git signs in nowhere, and nothing signs. Its owner
// is told who came in, and why.
func (s *Sessions) enter(ctx context.Context, a Actor, w store.Workspace, in wire.Run) (*steward.Conn, *Seat, error) {
	if err := lifecycle.Permit(lifecycle.Use, w.Phase, w.Plan.Adopted != nil); err != nil {
		return nil, nil, fromRoom(err)
	}
	w.NextPlan = nil // the body in use, not what a rebuild is making
	shell := len(in.Argv) == 0
	in.Terminal = byLabel(a.Name, in.Terminal) // a terminal of its owner's is never joined so
	r := steward.Request{Kind: steward.Run, Process: s.sessions.Bare(w)}
	if err := s.ask(ctx, w, &r, in); err != nil {
		return nil, nil, err
	}
	if shell { // a shell alone: what the definition begins is for its owner
		r.First, r.Process.Argv, r.Passing = "", nil, true
	}
	text := a.Name + " came in as an operator: " + strings.TrimSpace(in.Reason)
	if r.Life == "" { // who comes back after a lost connection has been told of: nothing is begun for them
		err := s.store.Write(store.About(ctx, w.ID), func(tx *store.Tx) error {
			if err := tx.Journal(ctx, w.ID, w.OwnerID, a.ID, journal.Entered{Reason: strings.TrimSpace(in.Reason), What: string(r.Kind)}); err != nil {
				return err
			}
			return tx.AddNotice(ctx, w, text)
		})
		if err != nil {
			return nil, nil, err
		}
		link := outside.Link(w.ID, w.Body)
		if c, err := s.hub.Ask(ctx, link, steward.Request{Kind: steward.Notice, Text: text}); err != nil {
			slog.Warn("tell terminals who came in", "workspace", w.ID, "error", err) // the notice stands
		} else {
			c.Stream.Close()
		}
	}
	return s.begin(ctx, a, w, r, unwritten, nil)
}
