package service

import (
	"context"
	"regexp"
	"slices"
	"strings"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/house"
	"yardbench/internal/repo"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Profiles are what of people's own comes into each of their workspaces.
type Profiles struct {
	house *house.Book
	store *store.Store
}

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

// Usual is what the actor usually wants.
func (s *Profiles) Usual(ctx context.Context, a Actor) (wire.Usual, error) {
	if !a.may(policy.SeeSelf) {
		return wire.Usual{}, denied(a, "see your profile")
	}
	u, err := s.store.Read().UsualOf(ctx, a.ID)
	return usualView(u), err
}

func usualView(u store.Usual) wire.Usual {
	return wire.Usual{GitName: u.GitName, GitEmail: u.GitEmail, Shell: u.Shell, Zone: u.Zone, Language: u.Language, Size: u.Size, RestAfterS: int(u.RestAfter / time.Second)}
}

var (
	shellName = regexp.MustCompile(`^(/[A-Za-z0-9._+-]+)*/?[A-Za-z0-9._+-]+$`)
	locale    = regexp.MustCompile(`^(C|POSIX|[a-z]{2,3}(_[A-Z]{2})?)(\.[A-Za-z0-9-]+)?(@[a-z]+)?$`) // POSIX.1-2017, 8.2
)

// PutUsual sets what the actor usually wants. It holds for what is begun from now on.
func (s *Profiles) PutUsual(ctx context.Context, a Actor, in wire.PutUsual) (wire.Usual, error) {
	if !a.may(policy.ChangeSelf) {
		return wire.Usual{}, denied(a, "change your profile")
	}
	u := store.Usual{GitName: strings.TrimSpace(in.GitName), GitEmail: strings.TrimSpace(in.GitEmail), Shell: in.Shell, Zone: in.Zone, Language: in.Language, Size: in.Size, RestAfter: time.Duration(in.RestAfterS) * time.Second}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return wire.Usual{}, err
	}
	_, zoneErr := time.LoadLocation(u.Zone)
	_, sized := house.Sizes[u.Size]
	wrong := func(field, what, next string) (wire.Usual, error) {
		return wire.Usual{}, at(invalid(what, ""), field, next)
	}
	switch {
	case hasControl(u.GitName) || strings.ContainsAny(u.GitName, "<>"):
		return wrong("/git_name", "this is no name for commits", "letters and spaces, without < and >")
	case hasControl(u.GitEmail) || strings.ContainsAny(u.GitEmail, "<> "):
		return wrong("/git_email", "this is no address for commits", "like ingrid@skerryline.example")
	case u.Shell != "" && !shellName.MatchString(u.Shell):
		return wrong("/shell", quote(u.Shell)+" is no shell", "a program's name like zsh, or its path")
	case zoneErr != nil || u.Zone == "Local":
		return wrong("/zone", quote(u.Zone)+" is no time zone", "like Europe/Oslo")
	case u.Language != "" && !locale.MatchString(u.Language):
		return wrong("/language", quote(u.Language)+" is no locale", "like nb_NO.UTF-8")
	case u.Size != "" && !sized:
		return wrong("/size", quote(u.Size)+" is no size", "the house rules have: "+strings.Join(house.Order, ", "))
	case u.RestAfter > house.Idle.RestAfterMost:
		return wrong("/rest_after_s", "rest after "+rules.Duration(u.RestAfter)+" is longer than the house rules allow", "at most "+rules.Duration(house.Idle.RestAfterMost))
	case u.RestAfter != 0 && u.RestAfter < time.Minute:
		return wrong("/rest_after_s", "rest after "+rules.Duration(u.RestAfter)+" is too short to work in", "at least 1 min")
	}
	return usualView(u), s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.PutUsual(ctx, a.ID, u); err != nil {
			return err
		}
		p, err := tx.ProfileOf(ctx, a.ID)
		if err != nil {
			return err
		}
		return tx.Journal(ctx, a.ID, a.ID, a.ID, journal.ProfilePut{Files: p.FilesURL})
	})
}

// usually fills in what somebody usually wants of a launch, as far as the house rules
// have it still.
func (o *order) usually(u store.Usual) {
	if slices.Contains(o.house.Order, u.Size) {
		o.house.UsualSize = u.Size
	}
	if o.rest == 0 && u.RestAfter > 0 && u.RestAfter <= o.house.Idle.RestAfterMost {
		o.rest = u.RestAfter
	}
}
