package service

import (
	"context"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/luggage"
	"yardbench/internal/core/policy"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Luggage is what of the actor's home folder goes along from workspace to workspace.
func (s *Profiles) Luggage(ctx context.Context, a Actor) (out wire.Luggage, err error) {
	if !a.may(policy.SeeSelf) {
		return out, denied(a, "see your luggage")
	}
	q := s.store.Read()
	rules, _, err := s.house.Rules(ctx, q)
	if err != nil {
		return out, err
	}
	out = wire.Luggage{Paths: []string{}, Files: []wire.LuggageFile{}, MostBytes: rules.Workspaces.LuggageMost}
	paths, err := q.LuggagePaths(ctx, a.ID)
	if err != nil {
		return out, err
	}
	for _, p := range paths {
		out.Paths = append(out.Paths, "~/"+p)
	}
	all, err := q.Luggage(ctx, a.ID, false)
	for _, l := range all {
		f := wire.LuggageFile{Path: "~/" + l.Path, Bytes: l.Bytes, From: l.From, LeftOut: l.LeftOut}
		if l.Kept() {
			f.ChangedAt = &l.ChangedAt
		}
		out.Files, out.Bytes = append(out.Files, f), out.Bytes+l.Bytes
	}
	return out, err
}

// PutLuggage says what is to go along. It is taken out of workspaces that are up within
// minutes, and laid into others at their next start.
func (s *Profiles) PutLuggage(ctx context.Context, a Actor, in wire.PutLuggage) (wire.Luggage, error) {
	if !a.may(policy.ChangeSelf) {
		return wire.Luggage{}, denied(a, "change your luggage")
	}
	paths, err := luggage.CheckAll(in.Paths)
	if err != nil {
		return wire.Luggage{}, at(invalid(err.Error(), ""), "/paths", "like ~/.bash_history or ~/.config/tide")
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		rules, _, err := s.house.Rules(ctx, tx.Q)
		if err != nil {
			return err
		}
		if len(paths) > 0 && rules.Workspaces.LuggageMost == 0 {
			return forbidden("the house rules let nothing of a home folder go along", "ask an operator: workspaces.luggage says how much may")
		}
		if err := tx.PutLuggagePaths(ctx, a.ID, paths); err != nil {
			return err
		}
		return tx.Journal(ctx, a.ID, a.ID, a.ID, journal.LuggagePut{Paths: paths})
	})
	if err != nil {
		return wire.Luggage{}, err
	}
	return s.Luggage(ctx, a)
}
