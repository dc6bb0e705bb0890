package reconcile

import (
	"context"
	"fmt"

	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
)

// clone fills the workspace folder.
func (d *doing) clone(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, cloneTimeout)
	defer cancel()
	r, err := d.store.Read().RepositoryByID(ctx, d.w.RepositoryID)
	if err != nil {
		return err
	}
	session := d.session
	// A clone needs git's way out and nothing of the person's secrets.
	session.Env, session.Probe = map[string]string{"GIT_TERMINAL_PROMPT": "0"}, ""
	plan := d.w.Target()
	session.Folder = plan.Definition.TreeFolder()
	ask := steward.Request{Kind: steward.CloneTo, Process: session, Mount: mountAbove(plan.Definition), URL: r.URL, Branch: d.w.Branch, Prepared: plan.Prepared != nil}
	for _, b := range plan.Beside {
		ask.Beside = append(ask.Beside, steward.Clone{URL: b.URL, Branch: b.Branch, Folder: b.Folder})
	}
	c, err := d.hub.Ask(ctx, outside.Link(d.w.ID, d.body), ask)
	if err != nil {
		return d.lost(ctx, err)
	}
	defer c.Stream.Close()
	x, err := outside.Follow(ctx, c, d.log)
	if err != nil {
		return d.lost(ctx, err)
	}
	if x.Problem != "" {
		if last := d.log.lastLine(); last != "" {
			x.Problem += ": " + last
		}
		return fmt.Errorf("clone %s: %s", r.URL, x.Problem)
	}
	d.bytes = x.Bytes
	d.set = func(_ *store.Tx, w *store.Workspace) error { w.SeededVolume = d.volume; return nil }
	return nil
}
