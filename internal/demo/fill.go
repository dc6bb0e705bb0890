package demo

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"yardbench/internal/repo"
	"yardbench/internal/service"
	"yardbench/internal/store"
	"yardbench/internal/wire"
)

// Person is one of Skerry Line's people.
type Person struct{ Name, FullName, Role string }

// People are Skerry Line's people, the first one its operator.
var People = []Person{
	{"astrid", "Astrid Holm", "operator"},
	{"ingrid", "Ingrid Solheim", "developer"},
	{"mats", "Mats Eide", "developer"},
	{"runa", "Runa Vik", "lead"},
	{"audun", "Audun Lie", "auditor"},
}

// Password is what everybody in the demo signs in with.
const Password = "skerry-line"

// Fill puts Skerry Line into a service, through the use cases that everybody
// else goes through. What is there already stays as it is.
func Fill(ctx context.Context, s *service.Service, gitHost string) error {
	gitHost = strings.TrimRight(gitHost, "/")
	for _, p := range People {
		err := s.AddPerson(ctx, store.Person{Name: p.Name, FullName: p.FullName, Email: p.Name + "@skerryline.example", Role: p.Role}, Password)
		if there(err) {
			continue
		}
		if err != nil {
			return fmt.Errorf("add %s: %w", p.Name, err)
		}
		who, err := s.Store.Read().PersonByName(ctx, p.Name)
		if err == nil {
			err = s.PutGitCredential(ctx, service.Actor{Person: who}, repo.Host(gitHost), wire.GitCredential{Username: p.Name, Password: GitToken(p.Name)})
		}
		if err != nil {
			return fmt.Errorf("give %s a git credential: %w", p.Name, err)
		}
	}
	operator, err := s.Store.Read().PersonByName(ctx, People[0].Name)
	if err != nil {
		return err
	}
	for _, name := range Repositories {
		if _, err := s.Store.Read().RepositoryByName(ctx, name); err == nil {
			continue
		}
		_, err := s.AddRepository(ctx, service.Actor{Person: operator}, wire.NewRepository{URL: gitHost + "/" + name + ".git"})
		if err != nil && !there(err) {
			return fmt.Errorf("register %s: %w", name, err)
		}
	}
	return nil
}

func there(err error) bool {
	var p *wire.Problem
	return errors.As(err, &p) && p.Status == http.StatusConflict
}
