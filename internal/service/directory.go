package service

import (
	"cmp"
	"context"
	"errors"
	"net/mail"
	"strings"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/house"
	"yardbench/internal/store"
)

// Directory are the use cases of a house's directory, which tells who is here, in which
// groups, and who has left (SCIM 2.0). The house rules say what its groups come to.
type Directory struct {
	house     *house.Book
	store     *store.Store
	providers *Providers // how people are named, taken in and placed
	works     *Workspaces
}

// Account is somebody as the directory has them.
type Account struct {
	UserName, ExternalID  string
	FullName              string
	GivenName, FamilyName string
	Email                 string
	Active                bool
}

// directoryMost bounds what a directory may tell of, of each kind.
const directoryMost = 50_000

func (s *Directory) may(a Actor) error {
	if !a.may(policy.SyncDirectory) {
		return denied(a, "tell who is here")
	}
	return nil
}

// Accounts lists whom it has told of.
func (s *Directory) Accounts(ctx context.Context, a Actor) ([]store.DirectoryAccount, error) {
	if err := s.may(a); err != nil {
		return nil, err
	}
	return s.store.Read().DirectoryAccounts(ctx)
}

// Account is one of them.
func (s *Directory) Account(ctx context.Context, a Actor, id string) (store.DirectoryAccount, []store.Member, error) {
	if err := s.may(a); err != nil {
		return store.DirectoryAccount{}, nil, err
	}
	d, err := s.store.Read().DirectoryAccountByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return d, nil, notFound("account", id, "")
	}
	if err != nil {
		return d, nil, err
	}
	groups, err := s.store.Read().GroupsOf(ctx, id)
	return d, groups, err
}

// Put takes somebody in, or writes them anew; id is theirs, "" of somebody new. Who is
// not active any more is out: what they are signed in with ends, with all that is open,
// and their workspaces are stopped. Those stay, for whoever is to go on with them.
func (s *Directory) Put(ctx context.Context, a Actor, id string, in Account) (d store.DirectoryAccount, err error) {
	if err := s.may(a); err != nil {
		return d, err
	}
	in.UserName, in.Email = strings.TrimSpace(in.UserName), strings.TrimSpace(in.Email)
	for what, text := range map[string]string{"userName": in.UserName, "externalId": in.ExternalID, "displayName": in.FullName, "name": in.GivenName + in.FamilyName, "emails": in.Email} {
		if len(text) > 400 || hasControl(text) {
			return d, invalid(what+" is too long, or holds a character that is no text", "")
		}
	}
	if in.UserName == "" {
		return d, invalid("userName is missing", "")
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return d, err
	}
	left := false
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		same, err := tx.DirectoryAccountByName(ctx, in.UserName)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err == nil && same.Person.ID != id {
			return conflict("name-taken", "there is an account "+quote(in.UserName)+" already", "")
		}
		if id == "" {
			if n, err := tx.DirectoryCount(ctx); err != nil || n >= directoryMost {
				return cmp.Or(err, error(conflict("too-many", "a directory may tell of so many people and no more", "")))
			}
		}
		if d, err = s.account(ctx, tx, a, id, in, house.SignIn.Directory); err != nil {
			return err
		}
		d.UserName, d.ExternalID, d.GivenName, d.FamilyName = in.UserName, in.ExternalID, in.GivenName, in.FamilyName
		if err := tx.PutDirectoryAccount(ctx, d); err != nil {
			return err
		}
		was := d.Person.ClosedAt == nil
		if was != in.Active {
			if !in.Active {
				if err := s.spare(ctx, tx, d.Person); err != nil {
					return err
				}
			}
			if err := tx.CloseAccount(ctx, d.Person.ID, !in.Active); err != nil {
				return err
			}
			if err := tx.Journal(ctx, d.Person.ID, d.Person.ID, a.ID, journal.PersonChanged{Role: d.Person.Role, Team: d.Person.Team, Closed: !in.Active, Provider: directoryName}); err != nil {
				return err
			}
			left = !in.Active
		}
		if in.Active {
			if err := s.place(ctx, tx, a, &d.Person, house.SignIn.Directory); err != nil {
				return err
			}
		}
		d, err = tx.DirectoryAccountByID(ctx, d.Person.ID)
		return err
	})
	if err == nil && left {
		stopAll(ctx, s.works, a, d.Person)
	}
	return d, err
}

// directoryName is what the journal calls it.
const directoryName = "directory"

// by is the directory as whoever places people: what it does is done by the program
// that tells of it.
func by(a Actor) store.Provider { return store.Provider{ID: a.ID, Name: directoryName} }

// spare refuses to have the last operator leave.
func (s *Directory) spare(ctx context.Context, tx *store.Tx, p store.Person) error {
	if p.Role != policy.Operator || p.ClosedAt != nil {
		return nil
	}
	n, err := tx.Operators(ctx)
	if err == nil && n < 2 {
		err = conflict("own-account", quote(p.Name)+" is the last operator: somebody must be left who can let others in", "make somebody else one first")
	}
	return err
}

// account finds whom a directory tells of, or takes them in: whoever has the address,
// where that is one person's that it has not told of; else somebody new.
func (s *Directory) account(ctx context.Context, tx *store.Tx, a Actor, id string, in Account, g rules.Groups) (d store.DirectoryAccount, err error) {
	fullName := cmp.Or(printable(in.FullName, 120), printable(in.GivenName+" "+in.FamilyName, 120))
	if id != "" {
		if d, err = tx.DirectoryAccountByID(ctx, id); errors.Is(err, store.ErrNotFound) {
			return d, notFound("account", id, "")
		}
		if err != nil {
			return d, err
		}
	} else {
		if in.Email != "" {
			same, err := tx.PeopleByEmail(ctx, in.Email)
			if err != nil {
				return d, err
			}
			if len(same) == 1 {
				if _, err := tx.DirectoryAccountByID(ctx, same[0].ID); errors.Is(err, store.ErrNotFound) {
					d.Person = same[0]
				} else if err != nil {
					return d, err
				}
			}
		}
		if d.Person.ID == "" {
			place, ok := g.Place(nil)
			if !ok {
				place.Role = policy.Developer // no more than that, until a group says so
			}
			d.Person, err = s.providers.newcomer(ctx, tx, by(a), whoOf(in, fullName), place)
			return d, err
		}
	}
	email := d.Person.Email
	if addr, err := mail.ParseAddress(in.Email); err == nil && addr.Address == in.Email {
		email = in.Email
	}
	if fullName = cmp.Or(fullName, d.Person.FullName); fullName != d.Person.FullName || email != d.Person.Email {
		err = tx.SetPersonsName(ctx, d.Person.ID, fullName, email)
	}
	return d, err
}

// place gives somebody what their groups come to, where the house rules say anything
// of the directory's. Whom no group gives a role is a developer: what a group gave
// goes with it.
func (s *Directory) place(ctx context.Context, tx *store.Tx, a Actor, p *store.Person, g rules.Groups) error {
	if len(g.Say) == 0 && g.Otherwise == "" {
		return nil
	}
	in, err := tx.GroupsOf(ctx, p.ID)
	if err != nil {
		return err
	}
	var names []string
	for _, m := range in {
		names = append(names, m.Group)
	}
	place, ok := g.Place(names)
	if !ok {
		place.Role = policy.Developer
	}
	return s.providers.placed(ctx, tx, by(a), p, place)
}

// Drop has somebody leave for good: as Put does of who is not active, and the directory
// knows nothing of them any more.
func (s *Directory) Drop(ctx context.Context, a Actor, id string) error {
	d, _, err := s.Account(ctx, a, id)
	if err != nil {
		return err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if err := s.spare(ctx, tx, d.Person); err != nil {
			return err
		}
		if err := tx.DropDirectoryAccount(ctx, id); err != nil || d.Person.ClosedAt != nil {
			return err
		}
		if err := tx.CloseAccount(ctx, id, true); err != nil {
			return err
		}
		return tx.Journal(ctx, id, id, a.ID, journal.PersonChanged{Role: d.Person.Role, Team: d.Person.Team, Closed: true, Provider: directoryName})
	})
	if err == nil {
		stopAll(ctx, s.works, a, d.Person)
	}
	return err
}

// Groups lists the groups that it has told of, with who is in them.
func (s *Directory) Groups(ctx context.Context, a Actor) ([]store.DirectoryGroup, []store.Member, error) {
	if err := s.may(a); err != nil {
		return nil, nil, err
	}
	groups, err := s.store.Read().DirectoryGroups(ctx)
	if err != nil {
		return nil, nil, err
	}
	members, err := s.store.Read().Members(ctx, "")
	return groups, members, err
}

// Group is one of them.
func (s *Directory) Group(ctx context.Context, a Actor, id string) (store.DirectoryGroup, []store.Member, error) {
	if err := s.may(a); err != nil {
		return store.DirectoryGroup{}, nil, err
	}
	g, err := s.store.Read().DirectoryGroupByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return g, nil, notFound("group", id, "")
	}
	if err != nil {
		return g, nil, err
	}
	members, err := s.store.Read().Members(ctx, id)
	return g, members, err
}

// PutGroup adds a group or writes it anew, with who is in it; whoever came or went is
// placed anew.
func (s *Directory) PutGroup(ctx context.Context, a Actor, id, name, external string, members []string) (g store.DirectoryGroup, err error) {
	if err := s.may(a); err != nil {
		return g, err
	}
	if name = strings.TrimSpace(name); name == "" || len(name) > 200 || hasControl(name) || len(external) > 400 || hasControl(external) || len(members) > directoryMost {
		return g, invalid("displayName is missing or too long, or holds a character that is no text", "")
	}
	g = store.DirectoryGroup{ID: cmp.Or(id, store.NewID()), Name: name, ExternalID: external}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		all, err := tx.DirectoryGroups(ctx)
		if err != nil {
			return err
		}
		known := false
		for _, o := range all {
			known = known || o.ID == id
			if o.Name == name && o.ID != id {
				return conflict("name-taken", "there is a group "+quote(name)+" already", "")
			}
		}
		switch {
		case id != "" && !known:
			return notFound("group", id, "")
		case id == "" && len(all) >= directoryMost:
			return conflict("too-many", "a directory may tell of so many groups and no more", "")
		}
		before, err := tx.Members(ctx, g.ID)
		if err != nil {
			return err
		}
		// Of a group of thousands only what changes is looked at and written.
		gone, come := differ(before, members)
		for _, m := range come {
			if _, err := tx.DirectoryAccountByID(ctx, m); errors.Is(err, store.ErrNotFound) {
				return invalid("there is no account "+quote(m), "tell of people before you tell of their groups")
			} else if err != nil {
				return err
			}
		}
		if err := tx.PutDirectoryGroup(ctx, g, gone, come); err != nil {
			return err
		}
		if g, err = tx.DirectoryGroupByID(ctx, g.ID); err != nil {
			return err
		}
		return s.placeAll(ctx, tx, a, append(gone, come...))
	})
	return g, err
}

// differ tells who is in a group no more, and who is in it now.
func differ(before []store.Member, after []string) (gone, come []string) {
	was, is := map[string]bool{}, map[string]bool{}
	for _, m := range before {
		was[m.PersonID] = true
	}
	for _, m := range after {
		if !was[m] && !is[m] {
			come = append(come, m)
		}
		is[m] = true
	}
	for _, m := range before {
		if !is[m.PersonID] {
			gone = append(gone, m.PersonID)
		}
	}
	return gone, come
}

// placeAll places anew whose groups are others.
func (s *Directory) placeAll(ctx context.Context, tx *store.Tx, a Actor, ids []string) error {
	house, _, err := s.house.Rules(ctx, tx.Q)
	if err != nil {
		return err
	}
	for _, id := range ids {
		p, err := tx.PersonByID(ctx, id)
		if err == nil && p.ClosedAt == nil {
			err = s.place(ctx, tx, a, &p, house.SignIn.Directory)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// DropGroup removes one; whoever was in it is placed anew.
func (s *Directory) DropGroup(ctx context.Context, a Actor, id string) error {
	_, members, err := s.Group(ctx, a, id)
	if err != nil {
		return err
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropDirectoryGroup(ctx, id); err != nil {
			return err
		}
		gone, _ := differ(members, nil)
		return s.placeAll(ctx, tx, a, gone)
	})
}
