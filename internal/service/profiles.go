package service

import (
	"context"
	"strings"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/repo"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Profiles are what of people's own comes into each of their workspaces.
type Profiles struct{ store *store.Store }

// Show is the actor's.
func (s *Profiles) Show(ctx context.Context, a Actor) (wire.Profile, error) {
	if !a.may(policy.SeeSelf) {
		return wire.Profile{}, denied(a, "see your profile")
	}
	p, err := s.store.Read().ProfileOf(ctx, a.ID)
	return profileView(p), err
}

func profileView(p store.Profile) (v wire.Profile) {
	if p.FilesURL != "" {
		v.Files = &wire.OwnFiles{Repository: p.FilesURL, Branch: p.Branch, Run: p.Run, EachStart: p.EachStart}
	}
	return v
}

// Put sets the actor's: it holds for workspaces from their next start on.
func (s *Profiles) Put(ctx context.Context, a Actor, in wire.PutProfile) (wire.Profile, error) {
	if !a.may(policy.ChangeSelf) {
		return wire.Profile{}, denied(a, "change your profile")
	}
	var p store.Profile
	if f := in.Files; f != nil {
		p = store.Profile{FilesURL: strings.TrimSpace(f.Repository), Branch: strings.TrimSpace(f.Branch), Run: f.Run, EachStart: f.EachStart}
		if err := repo.CheckURL(p.FilesURL); err != nil {
			return wire.Profile{}, fromRoom(err)
		}
		if hasControl(p.Branch) || strings.HasPrefix(p.Branch, "-") || strings.ContainsRune(p.Run, 0) {
			return wire.Profile{}, invalid("the branch, or what is run, holds what cannot be", "give a branch's name, and a line for a shell")
		}
	}
	return profileView(p), s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.PutProfile(ctx, a.ID, p); err != nil {
			return err
		}
		return tx.Journal(ctx, a.ID, a.ID, a.ID, journal.ProfilePut{Files: p.FilesURL})
	})
}
