package session

import (
	"context"
	"log/slog"
	"slices"
	"time"

	"yardbench/internal/core/changes"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/store"
)

// PushFor is how long a workspace may push once its owner allowed it.
const PushFor = 15 * time.Minute

// waits says why nothing in a workspace may push now, or sign with its owner's key;
// "" where it may. Where the house rules want it the owner allows it, outside of the
// workspace: what runs in it cannot. That something waits is noted, for the owner to see.
func (s *Sessions) waits(ctx context.Context, id, what string) string {
	house, _, err := s.House.Rules(ctx, s.Store.Read())
	if err != nil {
		return "the house rules cannot be read: " + err.Error()
	}
	w, err := s.Store.Read().WorkspaceByID(ctx, id)
	if err != nil {
		return "whose workspace this is cannot be read: " + err.Error()
	}
	why := "the house rules have that confirmed"
	switch {
	case changes.Request(w.Branch) > 0:
		why = "it is of a pull request, which a stranger may have written, so that is confirmed"
	case !house.Workspaces.ConfirmPush:
		return ""
	}
	standing, err := s.Store.Read().Conditions(ctx, id)
	if err != nil {
		return "whether a push is allowed cannot be read: " + err.Error()
	}
	kind := func(k lifecycle.ConditionKind) func(lifecycle.Condition) bool {
		return func(c lifecycle.Condition) bool { return c.Kind == k }
	}
	if i := slices.IndexFunc(standing, kind(lifecycle.PushAllowed)); i >= 0 && s.Now().Before(standing[i].Since.Add(PushFor)) {
		return ""
	}
	err = s.Store.Write(store.About(ctx, id), func(tx *store.Tx) error {
		w, err := tx.WorkspaceByID(ctx, id)
		if err != nil {
			return err
		}
		return tx.SetCondition(ctx, w, lifecycle.PushWaits, "something in it wants to "+what+"; "+why+" by its owner")
	})
	if err != nil {
		slog.Error("note that somebody wants to push", "workspace", id, "error", err)
		return "that somebody wants to push could not be written down"
	}
	return why + " outside of the workspace: allow it on the page of " + w.Name + " or with: yardbench allow-push " + w.Name + "; then try again"
}
