package reconcile

import (
	"context"
	"fmt"
	"strings"
	"time"

	"yardbench/internal/core/plain"
	"yardbench/internal/presence"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
)

// Look asks the steward what of a workspace's work exists nowhere else.
func (k *Rest) Look(ctx context.Context, w store.Workspace) (store.WorkState, error) {
	ctx, cancel := context.WithTimeout(ctx, 45*time.Second)
	defer cancel()
	w.NextPlan = nil // not what a rebuild is making: what is in use
	session, _, err := k.sessions.Of(ctx, w)
	if err != nil { // a secret that does not open keeps nobody from stopping
		return store.WorkState{Problem: plain.Line(err.Error(), 300)}, nil
	}
	session.Env, session.Files, session.Secrets, session.Probe = nil, nil, nil, ""
	session.Folder = w.Plan.Definition.TreeFolder()
	for _, b := range w.Plan.Beside {
		session.Also = append(session.Also, b.Folder)
	}
	var report steward.WorkReport
	c, err := k.hub.Ask(ctx, outside.Link(w.ID, w.Body), steward.Request{Kind: steward.Work, Process: session})
	if err == nil {
		defer c.Stream.Close()
		defer context.AfterFunc(ctx, func() { c.Stream.Close() })()
		err = c.Receive(&report)
	}
	if err != nil {
		report = steward.WorkReport{Problem: err.Error()}
	}
	report = presence.Work(report)
	return store.WorkState{Uncommitted: report.Uncommitted, Unpushed: report.Unpushed, Stashes: report.Stashes, Problem: report.Problem}, nil
}

// Unsafe says what of a stopped workspace exists nowhere else, in few words.
func Unsafe(w store.Workspace) string {
	if w.Work == nil {
		return "its work could not be looked at when it stopped"
	}
	if w.Work.Problem != "" {
		return "its work cannot be looked at: " + w.Work.Problem
	}
	var parts []string
	for _, p := range []struct {
		n    int
		what string
	}{{len(w.Work.Uncommitted), "not committed"}, {len(w.Work.Unpushed), "not pushed"}, {w.Work.Stashes, "stashed"}} {
		if p.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", p.n, p.what))
		}
	}
	return strings.Join(parts, ", ")
}
