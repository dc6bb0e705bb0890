package service

import (
	"context"
	"errors"
	"log/slog"
	"slices"
	"strings"
	"sync"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/fault"
	"yardbench/internal/store"
)

// headMoved has the workspaces of a branch looked at, whether their definition
// has changed since they were built. Each new head is looked at once.
func (s *Definitions) headMoved(r store.Repository, branch, commit string) {
	key := r.ID + " " + branch
	s.heads.mu.Lock()
	known := s.heads.of[key] == commit
	if s.heads.of == nil || len(s.heads.of) > 10_000 {
		s.heads.of = map[string]string{}
	}
	s.heads.of[key] = commit
	s.heads.mu.Unlock()
	if known {
		return
	}
	s.keeper.Go(func(ctx context.Context) {
		if err := s.drift(ctx, r, branch, commit); err != nil && ctx.Err() == nil {
			slog.Warn("whether a rebuild is due cannot be told yet", "repository", r.Name, "branch", branch, "error", err)
			s.heads.mu.Lock()
			delete(s.heads.of, key)
			s.heads.mu.Unlock()
		}
	})
}

// lookForDrift has a branch's head asked for, as one of those who have a
// workspace of it may, so that workspaces for which a rebuild is due are told.
func (s *Definitions) lookForDrift(r store.Repository, branch string) {
	s.keeper.Go(func(ctx context.Context) {
		all, err := s.store.Read().WorkspacesOf(ctx, r.ID, branch)
		asked := map[string]bool{}
		for _, w := range all {
			if asked[w.OwnerID] {
				continue
			}
			asked[w.OwnerID] = true
			if _, err = s.head(ctx, w.OwnerID, r, branch); err == nil {
				return
			}
		}
		if err != nil && ctx.Err() == nil {
			slog.Warn("whether a rebuild is due cannot be told yet", "repository", r.Name, "branch", branch, "error", err)
		}
	})
}

// drift marks the workspaces whose definition is another one at a commit than
// at the one they were built from.
func (s *Definitions) drift(ctx context.Context, r store.Repository, branch, commit string) error {
	all, err := s.store.Read().WorkspacesOf(ctx, r.ID, branch)
	if err != nil {
		return err
	}
	for _, w := range all {
		reason := ""
		if w.Plan.Commit != commit {
			if reason, err = s.changed(ctx, r, branch, *w.Plan, commit); err != nil {
				return err
			}
		}
		err := s.store.Write(store.About(ctx, w.ID), func(tx *store.Tx) error {
			now, err := tx.WorkspaceByID(ctx, w.ID)
			if err != nil || now.Phase == lifecycle.Removed || now.Plan.Commit != w.Plan.Commit {
				return err
			}
			if reason == "" {
				return tx.ClearCondition(ctx, now, lifecycle.RebuildDue)
			}
			return tx.SetCondition(ctx, now, lifecycle.RebuildDue, reason)
		})
		if err != nil {
			return err
		}
		s.bus.Publish(w.ID)
	}
	return nil
}

// changed tells what of the definition is another at a commit than in a plan;
// "" when nothing is.
func (s *Definitions) changed(ctx context.Context, r store.Repository, branch string, p store.Plan, commit string) (string, error) {
	ch := choiceOf(p)
	old, err := s.planAt(ctx, r, branch, p.Commit, ch)
	if err == nil {
		var next store.Plan
		if next, err = s.planAt(ctx, r, branch, commit, ch); err == nil {
			lines := definition.Changes(old.Definition, next.Definition)
			files, err := s.buildFilesChanged(ctx, r, old, next)
			if err != nil {
				return "", err
			}
			if lines = append(lines, files...); len(lines) == 0 {
				return "", nil
			}
			return strings.Join(lines, "; "), nil
		}
	}
	var wrong *fault.Fault
	if errors.As(err, &wrong) {
		return "", nil // it cannot be launched from: a rebuild would not help
	}
	return "", err
}

// buildFilesChanged names the build files and features that differ.
func (s *Definitions) buildFilesChanged(ctx context.Context, r store.Repository, old, next store.Plan) (out []string, err error) {
	files := map[string]bool{}
	for _, d := range []definition.Definition{old.Definition, next.Definition} {
		builds := []*definition.Build{d.Build}
		if d.Compose != nil {
			for _, v := range d.Compose.Services {
				builds = append(builds, v.Build)
			}
		}
		for _, b := range builds {
			if b != nil && b.Inline == "" {
				files[b.Dockerfile] = true
			}
		}
	}
	for f := range files {
		a, _, err := s.mirrors.ReadFile(ctx, r.ID, old.Commit, f, definition.MaxBytes)
		if err != nil {
			return nil, fromRoom(err)
		}
		b, _, err := s.mirrors.ReadFile(ctx, r.ID, next.Commit, f, definition.MaxBytes)
		if err != nil {
			return nil, fromRoom(err)
		}
		if string(a) != string(b) {
			out = append(out, f+" changed")
		}
	}
	was := map[string]string{}
	for _, f := range old.Definition.Features {
		was[f.Ref] = f.Digest
	}
	for _, f := range next.Definition.Features {
		if digest, ok := was[f.Ref]; ok && digest != f.Digest {
			out = append(out, "feature "+f.Ref+" changed")
		}
	}
	slices.Sort(out)
	return out, nil
}

// headsSeen remembers the heads that were looked at.
type headsSeen struct {
	mu sync.Mutex
	of map[string]string
}
