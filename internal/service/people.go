package service

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"net/mail"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/password"
	"yardbench/internal/store"
	"yardbench/wire"
)

// People are the use cases of people, their teams and how they are taken in.
type People struct {
	address string
	store   *store.Store
	now     func() time.Time
	guests  *Guests
	links   *LaunchLinks
	house   *house.Book
}

// Caller is where somebody asks from, and what their client calls itself.
type Caller struct{ Place, Agent string }

func (c Caller) client() string { return printable(c.Agent, 120) }

var personName = regexp.MustCompile(`^[a-z](?:[.-]?[a-z0-9]){0,31}$`)

// AddPerson adds somebody with the hash of their password. No door leads here:
// people set up their own accounts, by a link. The demo calls it.
func (s *People) AddPerson(ctx context.Context, p store.Person) error {
	if err := checkAccount(p); err != nil {
		return err
	}
	p.ID = store.NewID()
	err := s.store.Write(ctx, func(tx *store.Tx) error { return addPerson(ctx, tx, p, "service", "") })
	return nameOfPersonTaken(err, p.Name)
}

// nameMost bounds a name to sign in with, in characters.
const nameMost = 32

// checkAccount checks what an account is set up with.
func checkAccount(p store.Person) error {
	switch {
	case !personName.MatchString(p.Name) || len(p.Name) > nameMost:
		return invalid(fmt.Sprintf("%q is no name to sign in with", p.Name), "use lower-case letters and digits, with a dot or a dash between some, starting with a letter, at most 32 in all")
	case strings.TrimSpace(p.FullName) == "" || hasControl(p.FullName):
		return invalid("the full name is missing, or holds a character that is no text", "give the name that stands on commits")
	}
	if a, err := mail.ParseAddress(p.Email); err != nil || a.Address != p.Email {
		return invalid(quote(p.Email)+" is no mail address", "give the address that stands on commits, like ingrid@skerryline.example")
	}
	return nil
}

// hasControl tells whether a text holds what is not to be seen: control
// characters, line ends, what turns the direction of writing.
func hasControl(s string) bool {
	return strings.ContainsFunc(s, func(r rune) bool { return !unicode.IsPrint(r) })
}

func addPerson(ctx context.Context, tx *store.Tx, p store.Person, actor, enrolment string) error {
	if err := tx.AddPerson(ctx, p); err != nil {
		return err
	}
	return tx.Journal(ctx, p.ID, p.ID, actor, journal.PersonAdded{Role: p.Role, Team: p.Team, Enrolment: enrolment})
}

func nameOfPersonTaken(err error, name string) error {
	if store.IsDuplicate(err) {
		return conflict("name-taken", "there is a person "+quote(name)+" already", "choose another name")
	}
	return err
}

// People lists those the actor may see.
func (s *People) People(ctx context.Context, a Actor) ([]wire.Person, error) {
	if !a.may(policy.SeePeople) {
		return nil, denied(a, "see who is here")
	}
	scope, _ := a.scope(policy.SeePeople)
	rows, err := s.store.Read().People(ctx, scope)
	out := []wire.Person{}
	for _, p := range rows {
		out = append(out, personView(p))
	}
	return out, err
}

// Person is one of them.
func (s *People) Person(ctx context.Context, a Actor, name string) (wire.Person, error) {
	p, err := s.person(ctx, a, name, policy.SeePeople)
	return personView(p), err
}

// person finds somebody the actor may see; others do not exist for them.
func (s *People) person(ctx context.Context, a Actor, name string, action policy.Action) (store.Person, error) {
	p, err := s.store.Read().PersonByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) || (err == nil && !a.mayOf(policy.SeePeople, p) && !a.leadsOneOf(p)) {
		return p, notFound("person", name, "see who is here", fault.Do("list-people", ""))
	}
	if err == nil && action != policy.SeePeople && !a.mayOf(action, p) {
		return p, denied(a, "change "+p.Name)
	}
	return p, err
}

// ChangePerson changes somebody's role or team, or closes or opens their account.
func (s *People) ChangePerson(ctx context.Context, a Actor, name string, in wire.PersonChange) (wire.Person, error) {
	p, err := s.person(ctx, a, name, policy.ChangePeople)
	if err != nil {
		return wire.Person{}, err
	}
	if p.ID == a.ID && ((in.Role != "" && policy.Role(in.Role) != a.Role) || (in.Closed != nil && *in.Closed)) {
		return wire.Person{}, conflict("own-account", "you cannot take your own role or account away: somebody must be left to give it back", "have another operator do it")
	}
	var team *store.Team
	if in.Team != nil {
		t, err := s.team(ctx, *in.Team)
		if err != nil {
			return wire.Person{}, err
		}
		team = &t
	}
	var also []store.Membership
	if in.Also != nil {
		if also, err = s.also(ctx, p, in); err != nil {
			return wire.Person{}, err
		}
	}
	err = s.store.Write(ctx, func(tx *store.Tx) (err error) {
		now, err := tx.PersonByID(ctx, p.ID)
		if err == nil {
			err = matches(ctx, quote(p.Name), personView(now))
		}
		if err != nil {
			return err
		}
		if in.Role != "" {
			if err := tx.SetRole(ctx, p.ID, policy.Role(in.Role)); err != nil {
				return err
			}
		}
		if team != nil {
			if err := tx.SetTeam(ctx, p.ID, team.ID); err != nil {
				return err
			}
		}
		if in.Also != nil {
			if err := tx.SetAlso(ctx, p.ID, also); err != nil {
				return err
			}
		}
		if in.Closed != nil {
			if err := tx.CloseAccount(ctx, p.ID, *in.Closed); err != nil {
				return err
			}
		}
		if p, err = tx.PersonByID(ctx, p.ID); err != nil {
			return err
		}
		return tx.Journal(ctx, p.ID, p.ID, a.ID, journal.PersonChanged{Role: p.Role, Team: p.Team, Also: alsoIn(p), Closed: p.ClosedAt != nil})
	})
	if err == nil {
		s.guests.othersSecrets(p.ID)
	}
	return personView(p), err
}

// also finds the teams that somebody is to be in beside their own.
func (s *People) also(ctx context.Context, p store.Person, in wire.PersonChange) (out []store.Membership, err error) {
	own, role := p.Team, cmp.Or(policy.Role(in.Role), p.Role)
	if in.Team != nil {
		own = *in.Team
	}
	if len(*in.Also) > 0 && (p.Program || p.Guest != nil && in.Role == "" || role == policy.Auditor) {
		return nil, invalid(quote(p.Name)+" is of no team beside their own", "that is for operators, leads and developers")
	}
	for _, m := range *in.Also {
		t, err := s.team(ctx, m.Team)
		switch {
		case err != nil:
			return nil, err
		case t.ID == "" || t.Name == own || strings.EqualFold(m.Team, own):
			return nil, invalid("they are in "+cmp.Or(quote(t.Name), "no team of no name")+" already, as their own team", "say their role there with role: lead, or leave it out")
		case slices.ContainsFunc(out, func(o store.Membership) bool { return o.TeamID == t.ID }):
			return nil, invalid("the team "+quote(t.Name)+" is named twice", "name it once")
		}
		out = append(out, store.Membership{TeamID: t.ID, Team: t.Name, Leads: m.Leads})
	}
	return out, nil
}

// alsoIn are the teams that somebody is in beside their own, for the journal.
func alsoIn(p store.Person) (out []string) {
	for _, m := range p.Also {
		out = append(out, m.Team+map[bool]string{true: " (leads it)"}[m.Leads])
	}
	return out
}

// ErasePerson takes away everything that is known of somebody whose account is
// closed, and what was theirs. What they did stays in the journal, under an id
// that stands for nobody any more.
func (s *People) ErasePerson(ctx context.Context, a Actor, name string) error {
	p, err := s.person(ctx, a, name, policy.ChangePeople)
	if err != nil {
		return err
	}
	if p.ID == a.ID || p.ClosedAt == nil {
		return conflict("account-open", quote(p.Name)+" has an open account, and may sign in", "close it first", fault.Do("change-person", p.Name, "closed"))
	}
	gone := "gone" + p.ID[:6]
	return s.store.Write(ctx, func(tx *store.Tx) error {
		theirs, err := tx.PeoplesWorkspaces(ctx, store.Scope{OwnerID: p.ID})
		if err != nil {
			return err
		}
		if len(theirs) > 0 {
			var names []string
			for _, w := range theirs {
				names = append(names, w.Name+"."+p.Name)
			}
			return conflict("has-workspaces", quote(p.Name)+" still has workspaces: "+some(names), "remove them first")
		}
		if err := tx.ErasePerson(ctx, p.ID, gone); err != nil {
			return err
		}
		return tx.Journal(ctx, p.ID, p.ID, a.ID, journal.PersonErased{})
	})
}

// Enrol makes a link by which somebody sets up their account, or a new
// password.
func (s *People) Enrol(ctx context.Context, a Actor, in wire.NewEnrolment) (wire.Enrolment, error) {
	if !a.may(policy.ChangePeople) {
		return wire.Enrolment{}, denied(a, "make enrolment links")
	}
	e := store.Enrolment{Role: policy.Developer, MadeBy: a.ID}
	if in.Role != "" {
		e.Role = policy.Role(in.Role)
	}
	t, err := s.team(ctx, in.Team)
	if err != nil {
		return wire.Enrolment{}, err
	}
	e.TeamID, e.Team = t.ID, t.Name
	if in.Person != "" {
		p, err := s.person(ctx, a, in.Person, policy.ChangePeople)
		if err != nil {
			return wire.Enrolment{}, err
		}
		if p.Program {
			return wire.Enrolment{}, conflict("no-program", quote(p.Name)+" is the account of programs: nobody signs in with it", "make it a token", fault.Do("make-program-token", p.Name))
		}
		e.PersonID, e.Person, e.Role, e.TeamID, e.Team = p.ID, p.Name, p.Role, p.TeamID, p.Team
	}
	if e.Name, e.FullName, e.Email = in.Name, strings.TrimSpace(in.FullName), in.Email; e.Name+e.FullName+e.Email != "" {
		if err := s.invited(ctx, e); err != nil {
			return wire.Enrolment{}, err
		}
	}
	hours := 72
	if in.Hours > 0 {
		hours = in.Hours
	}
	return s.enrolment(ctx, e, time.Duration(hours)*time.Hour)
}

// invited checks whom a link is for.
func (s *People) invited(ctx context.Context, e store.Enrolment) error {
	if e.Name == "" || e.PersonID != "" {
		return invalid("a link for somebody names the account that it sets up", "give the name to sign in with, and no person who has an account")
	}
	if err := checkAccount(store.Person{Name: e.Name, FullName: cmp.Or(e.FullName, e.Name), Email: cmp.Or(e.Email, "nobody@skerryline.example")}); err != nil {
		return err
	}
	_, err := s.store.Read().PersonByName(ctx, e.Name)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return cmp.Or(err, error(conflict("name-taken", "there is a person "+quote(e.Name)+" already", "choose another name, or make a link for a new password of theirs")))
}

// FirstEnrolment makes the link for the first operator of a service that knows
// nobody yet.
func (s *People) FirstEnrolment(ctx context.Context) (link string, needed bool, err error) {
	people, err := s.store.Read().People(ctx, store.Scope{})
	if err != nil || len(people) > 0 {
		return "", false, err
	}
	e, err := s.enrolment(ctx, store.Enrolment{Role: policy.Operator, MadeBy: "service"}, 72*time.Hour)
	return e.Link, true, err
}

func (s *People) enrolment(ctx context.Context, e store.Enrolment, life time.Duration) (wire.Enrolment, error) {
	key, hash := newToken("yb_link_")
	e.ID, e.Hash, e.ExpiresAt = store.NewID(), hash, s.now().Add(life).UTC()
	// The key stands behind a #, which no browser sends to a server.
	out := wire.Enrolment{ID: e.ID, Link: s.address + "/enrol#" + key, Role: string(e.Role), Team: e.Team, Person: e.Person, Name: e.Name, FullName: e.FullName, Email: e.Email, ExpiresAt: e.ExpiresAt}
	return out, s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.AddEnrolment(ctx, e); err != nil {
			return err
		}
		return tx.Journal(ctx, e.ID, e.PersonID, e.MadeBy, journal.EnrolmentMade{Role: e.Role, Team: e.Team, Name: e.Name})
	})
}

// Enrolments lists the links that can still be used.
func (s *People) Enrolments(ctx context.Context, a Actor) ([]wire.OpenEnrolment, error) {
	if !a.may(policy.ChangePeople) {
		return nil, denied(a, "see enrolment links")
	}
	rows, err := s.store.Read().Enrolments(ctx, s.now())
	out := []wire.OpenEnrolment{}
	for _, e := range rows {
		out = append(out, wire.OpenEnrolment{ID: e.ID, Role: string(e.Role), Team: e.Team, Person: e.Person, Name: e.Name, FullName: e.FullName, Email: e.Email, MadeBy: nameOf(ctx, s.store.Read(), e.MadeBy), ExpiresAt: e.ExpiresAt})
	}
	return out, err
}

// EndEnrolment takes back a link that nobody has used.
func (s *People) EndEnrolment(ctx context.Context, a Actor, id string) error {
	if !a.may(policy.ChangePeople) {
		return denied(a, "end enrolment links")
	}
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropEnrolment(ctx, id); err != nil {
			return err
		}
		return tx.Journal(ctx, id, "", a.ID, journal.EnrolmentEnded{})
	})
	if errors.Is(err, store.ErrNotFound) {
		return notFound("open enrolment link", id, "see them", fault.Do("list-enrolments", ""))
	}
	return err
}

// offered is what a key is for; of a launch link that lets guests in it is the link's.
func (s *People) offered(ctx context.Context, key string) (e store.Enrolment, err error) {
	if link, is := strings.CutPrefix(key, guestKey); is {
		e, err = s.links.Lets(ctx, link)
	} else {
		hash := sha256.Sum256([]byte(key))
		e, err = s.store.Read().EnrolmentByHash(ctx, hash[:], s.now())
	}
	if errors.Is(err, store.ErrNotFound) {
		return e, notFound("enrolment link", "", "it was used, was taken back, has expired, or was cut off; ask an operator for another")
	}
	return e, err
}

// Offer tells what a link is for.
func (s *People) Offer(ctx context.Context, key string) (wire.EnrolmentOffer, error) {
	e, err := s.offered(ctx, key)
	v := wire.EnrolmentOffer{Role: string(e.Role), Team: e.Team, Person: e.Person, Name: e.Name, FullName: e.FullName, Email: e.Email, ExpiresAt: e.ExpiresAt}
	if e.Guest != nil {
		v.Until = &e.Guest.Until
	}
	return v, err
}

// UseEnrolment sets up the account, or the new password. A link is used once; a launch link
// that lets guests in by as many as it says.
func (s *People) UseEnrolment(ctx context.Context, in wire.EnrolmentUse) (wire.Person, error) {
	e, err := s.offered(ctx, in.Key)
	if err != nil {
		return wire.Person{}, err
	}
	if e.Name != "" && in.Name != "" && in.Name != e.Name {
		return wire.Person{}, invalid("this link is for "+quote(e.Name)+", and for no other name", "leave the name out, or ask an operator for another link")
	}
	p := store.Person{ID: store.NewID(), Name: cmp.Or(e.Name, in.Name), FullName: cmp.Or(e.FullName, strings.TrimSpace(in.FullName)), Email: cmp.Or(e.Email, in.Email), Role: e.Role, TeamID: e.TeamID, Team: e.Team}
	if e.Guest != nil {
		if !s.now().Before(e.Guest.Until) {
			return wire.Person{}, conflict("not-now", "the access that this link is for is over", "ask the lead of "+e.Team+" for another")
		}
		p.Role = policy.Developer // what a guest is beside is their access
	}
	if e.PersonID != "" {
		if p, err = s.store.Read().PersonByID(ctx, e.PersonID); err != nil {
			return wire.Person{}, err
		}
	}
	if err := checkAccount(p); err != nil {
		return wire.Person{}, err
	}
	if err := password.Weak(in.Password, append(strings.Fields(p.FullName), p.Name)...); err != nil {
		return wire.Person{}, invalid(err.Error(), "choose another")
	}
	if p.PasswordHash, err = HashPassword(ctx, in.Password); err != nil {
		return wire.Person{}, err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		use := tx.UseEnrolment
		if strings.HasPrefix(in.Key, guestKey) {
			use = tx.GuestByLink
		}
		if err := use(ctx, e.ID); err != nil {
			return err
		}
		if e.PersonID == "" {
			if err := addPerson(ctx, tx, p, p.ID, e.ID); err != nil || e.Guest == nil {
				return err
			}
			if err := tx.PutGuest(ctx, p.ID, *e.Guest); err != nil {
				return err
			}
			p.Guest = e.Guest
			return tx.Journal(ctx, p.ID, p.ID, e.Guest.By, guestPut(ctx, tx.Q, *e.Guest))
		}
		if err := tx.SetPassword(ctx, p.ID, p.PasswordHash); err != nil {
			return err
		}
		if err := tx.DropTokens(ctx, p.ID); err != nil { // whoever had the old password is out
			return err
		}
		return tx.Journal(ctx, p.ID, p.ID, p.ID, journal.PasswordSet{})
	})
	if errors.Is(err, store.ErrNotFound) {
		return wire.Person{}, notFound("enrolment link", "", "it was used meanwhile; ask an operator for another")
	}
	if err == nil && p.Guest != nil {
		p.Role = policy.Guest
		s.guests.watch(p)
	}
	return personView(p), nameOfPersonTaken(err, p.Name)
}

func personView(p store.Person) wire.Person {
	v := wire.Person{Name: p.Name, FullName: p.FullName, Email: p.Email, Role: string(p.Role), Team: p.Team, Closed: p.ClosedAt != nil, Program: p.Program}
	for _, m := range p.Also {
		v.Also = append(v.Also, wire.Membership{Team: m.Team, Leads: m.Leads})
	}
	return v
}

// nameOf is a person's name for people to read; the service's own otherwise.
func nameOf(ctx context.Context, q store.Q, id string) string {
	if p, err := q.PersonByID(ctx, id); err == nil {
		return p.Name
	}
	return "the service"
}
