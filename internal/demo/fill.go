package demo

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/password"
	"yardbench/internal/repo"
	"yardbench/internal/service"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Person is one of Skerry Line's people.
type Person struct {
	Name, FullName string
	Role           policy.Role
	Team           string
}

// Teams are Skerry Line's teams.
var Teams = []string{"Timetable", "Harbour", "Fares", "Decks"}

// People are Skerry Line's people, the first one its operator.
var People = []Person{
	{"astrid", "Astrid Holm", policy.Operator, ""},
	{"haldor", "Haldor Nes", policy.Operator, ""},
	{"audun", "Audun Lie", policy.Auditor, ""},
	{"runa", "Runa Vik", policy.Lead, "Timetable"},
	{"ingrid", "Ingrid Solheim", policy.Developer, "Timetable"},
	{"jonas", "Jonas Aune", policy.Developer, "Timetable"},
	{"sigrid", "Sigrid Moe", policy.Developer, "Timetable"},
	{"eskil", "Eskil Strand", policy.Developer, "Timetable"},
	{"tuva", "Tuva Haugen", policy.Developer, "Timetable"},
	{"solveig", "Solveig Berg", policy.Lead, "Harbour"},
	{"mats", "Mats Eide", policy.Developer, "Harbour"},
	{"torbjorn", "Torbjørn Rød", policy.Developer, "Harbour"},
	{"liv", "Liv Sand", policy.Developer, "Harbour"},
	{"hauk", "Hauk Tveit", policy.Developer, "Harbour"},
	{"embla", "Embla Fosse", policy.Developer, "Harbour"},
	{"bjarne", "Bjarne Lund", policy.Lead, "Fares"},
	{"marit", "Marit Dahl", policy.Developer, "Fares"},
	{"oddvar", "Oddvar Ness", policy.Developer, "Fares"},
	{"nora", "Nora Bakke", policy.Developer, "Fares"},
	{"even", "Even Myhre", policy.Developer, "Fares"},
	{"gudrun", "Gudrun Vold", policy.Lead, "Decks"},
	{"peder", "Peder Nygård", policy.Developer, "Decks"},
	{"frida", "Frida Lie", policy.Developer, "Decks"},
	{"aksel", "Aksel Brekke", policy.Developer, "Decks"},
	{"vilde", "Vilde Øien", policy.Developer, "Decks"},
	{"stian", "Stian Hegg", policy.Developer, "Decks"},
}

// Password is what everybody in the demo signs in with.
const Password = "skerry-line"

// Rules are Skerry Line's house rules.
//
//go:embed rules.yaml
var Rules string

// RulesBeside are the house rules where the git host, and with it the registry,
// is at an address.
func RulesBeside(gitHost string) string {
	u, err := url.Parse(gitHost)
	if err != nil || u.Port() == "" {
		return Rules
	}
	return strings.Replace(Rules, "registry.skerryline.localhost:7081", "registry.skerryline.localhost:"+u.Port(), 1)
}

// alsoIn are those of them who are in several teams.
var alsoIn = map[string][]wire.NewMembership{
	"embla": {{Team: "Decks"}},
	"hauk":  {{Team: "Fares", Leads: true}},
}

// PushKey is what the git host signs the news of a repository's pushes with.
func PushKey(repository string) string { return "skerry-push-" + repository }

// Fill puts Skerry Line into a service, through the use cases that everybody
// else goes through. What is there already stays as it is.
func Fill(ctx context.Context, s *service.Service, rooms service.Rooms, gitHost string) error {
	gitHost = strings.TrimRight(gitHost, "/")
	if err := FillPeople(ctx, s, rooms, gitHost); err != nil {
		return err
	}
	operator, err := actor(ctx, rooms.Store, People[0].Name)
	if err != nil {
		return err
	}
	for name, also := range alsoIn {
		p, err := rooms.Store.Read().PersonByName(ctx, name)
		if err == nil && len(p.Also) == 0 {
			_, err = s.People.ChangePerson(ctx, operator, name, wire.PersonChange{Also: &also})
		}
		if err != nil {
			return fmt.Errorf("put %s into teams: %w", name, err)
		}
	}
	for _, name := range Repositories {
		if _, err := rooms.Store.Read().RepositoryByName(ctx, name); err == nil {
			continue
		}
		team := ""
		for t, r := range teamRepository {
			if r == name {
				team = t
			}
		}
		_, err := s.Repositories.AddRepository(ctx, operator, wire.NewRepository{URL: gitHost + "/" + name + ".git", Team: team})
		if err != nil && !there(err) {
			return fmt.Errorf("register %s: %w", name, err)
		}
		if err := s.Repositories.PutCredential(ctx, operator, name, wire.GitCredential{Username: Reader(name), Password: GitToken(Reader(name))}); err != nil {
			return fmt.Errorf("give %s a credential of its own: %w", name, err)
		}
		if _, err := s.Pushes.NewPushKey(ctx, operator, name, PushKey(name)); err != nil {
			return err
		}
	}
	return nil
}

// FillPeople puts Skerry Line's teams and people into a service.
func FillPeople(ctx context.Context, s *service.Service, rooms service.Rooms, gitHost string) error {
	if _, err := rooms.Store.Read().PersonByName(ctx, People[len(People)-1].Name); err == nil {
		return nil
	}
	// Everybody's password is the same, and everybody knows it: it is worth no work.
	var err error
	hash := password.Cheap(Password)
	for n, p := range People {
		person := store.Person{Name: p.Name, FullName: p.FullName, Email: p.Name + "@skerryline.example", Role: p.Role, PasswordHash: hash}
		if n == 0 {
			err = s.People.AddPerson(ctx, person)
			for _, team := range Teams {
				operator, aerr := actor(ctx, rooms.Store, p.Name)
				if aerr != nil {
					return aerr
				}
				if _, err := s.People.AddTeam(ctx, operator, wire.NewTeam{Name: team}); err != nil && !there(err) {
					return err
				}
			}
		} else {
			if p.Team != "" {
				t, err := rooms.Store.Read().TeamByName(ctx, p.Team)
				if err != nil {
					return fmt.Errorf("team %s: %w", p.Team, err)
				}
				person.TeamID, person.Team = t.ID, t.Name
			}
			err = s.People.AddPerson(ctx, person)
		}
		if there(err) {
			continue
		}
		if err != nil {
			return fmt.Errorf("add %s: %w", p.Name, err)
		}
		a, err := actor(ctx, rooms.Store, p.Name)
		if err == nil {
			err = s.GitHosts.PutGitCredential(ctx, a, repo.Host(gitHost), wire.GitCredential{Username: p.Name, Password: GitToken(p.Name)})
		}
		if err != nil {
			return fmt.Errorf("give %s a git credential: %w", p.Name, err)
		}
	}
	return nil
}

func actor(ctx context.Context, st *store.Store, name string) (service.Actor, error) {
	p, err := st.Read().PersonByName(ctx, name)
	return service.Actor{Person: p}, err
}

func there(err error) bool {
	var f *fault.Fault
	var p *wire.Problem
	return errors.As(err, &f) && f.Class == fault.Conflict || errors.As(err, &p) && p.Status == http.StatusConflict
}
