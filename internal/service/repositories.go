package service

import (
	"context"
	"errors"
	"path"
	"strings"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/repo"
	"yardbench/internal/session"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Repositories are the use cases of registered repositories.
type Repositories struct {
	mirrors  Mirrors
	sessions *session.Sessions
	store    *store.Store
	people   *People
}

// Repositories lists the registered repositories.
func (s *Repositories) Repositories(ctx context.Context, a Actor) ([]wire.Repository, error) {
	rows, err := s.store.Read().Repositories(ctx)
	out := []wire.Repository{}
	for _, r := range rows {
		if a.Grant.Holds(r.ID) {
			out = append(out, repositoryView(r))
		}
	}
	return out, err
}

// Repository is one of them.
func (s *Repositories) Repository(ctx context.Context, a Actor, name string) (wire.Repository, error) {
	r, err := s.repository(ctx, a, name)
	return repositoryView(r), err
}

func repositoryView(r store.Repository) wire.Repository {
	return wire.Repository{Name: r.Name, URL: r.URL, DefaultBranch: r.DefaultBranch, SignsPushes: len(r.PushKey) > 0, OwnCredential: r.ReadUsername != "", Team: r.Team}
}

// repository finds a registered repository.
func (s *Repositories) repository(ctx context.Context, a Actor, name string) (store.Repository, error) {
	r, err := s.store.Read().RepositoryByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) || (err == nil && (!a.Grant.Holds(r.ID) || !a.may(policy.SeeRepositories))) {
		return r, notFound("repository", name, "see what is registered", fault.Do("list-repositories", ""))
	}
	return r, err
}

// AddRepository registers a repository. The git host is asked with the
// actor's own credential.
func (s *Repositories) AddRepository(ctx context.Context, a Actor, in wire.NewRepository) (wire.Repository, error) {
	if !a.may(policy.ChangeRepository) {
		return wire.Repository{}, denied(a, "register repositories")
	}
	if err := repo.CheckURL(in.URL); err != nil {
		return wire.Repository{}, fromRoom(err)
	}
	name := in.Name
	if name == "" {
		name = strings.ToLower(strings.TrimSuffix(path.Base(in.URL), ".git"))
	}
	if !workspaceName.MatchString(name) {
		return wire.Repository{}, invalid(quote(name)+" is no repository name", "give one with lower-case letters, digits and dashes")
	}
	cred, err := gitCredential(ctx, s.sessions, a.ID, in.URL)
	if err != nil {
		return wire.Repository{}, err
	}
	branch, err := s.mirrors.DefaultBranch(ctx, in.URL, cred)
	if err != nil {
		return wire.Repository{}, fromRoom(err)
	}
	team, err := s.people.team(ctx, in.Team)
	if err != nil {
		return wire.Repository{}, err
	}
	r := store.Repository{ID: store.NewID(), Name: name, URL: in.URL, DefaultBranch: branch, TeamID: team.ID, Team: team.Name}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.AddRepository(ctx, r); err != nil {
			return err
		}
		return tx.Journal(ctx, r.ID, "", a.ID, journal.RepositoryAdded{Name: r.Name, URL: r.URL, Team: r.Team})
	})
	if store.IsDuplicate(err) {
		return wire.Repository{}, at(conflict("name-taken", "there is a repository "+quote(name)+" already", "give it another name"), "/name", "it is taken")
	}
	return repositoryView(r), err
}

// PutCredential gives a repository the credential that its prebuilds read it
// with. The git host is asked whether it is good.
func (s *Repositories) PutCredential(ctx context.Context, a Actor, name string, c wire.GitCredential) error {
	if err := checkCredential(c); err != nil {
		return err
	}
	r, err := s.changing(ctx, a, name)
	if err != nil {
		return err
	}
	_, err = s.mirrors.DefaultBranch(ctx, r.URL, repo.Credential(c))
	if refused := (repo.SignIn{}); errors.As(err, &refused) {
		return invalidAs("credential", "with this credential "+r.URL+" cannot be read", "give one that the git host lets read this repository, and nothing else")
	}
	if err != nil {
		return fromRoom(err)
	}
	sealed, err := s.sessions.Vault.Seal(c.Password, session.ReadPlace(r.ID)...)
	if err != nil {
		return err
	}
	return s.setCredential(ctx, a, r, c.Username, sealed)
}

// DropCredential takes a repository's own credential away.
func (s *Repositories) DropCredential(ctx context.Context, a Actor, name string) error {
	r, err := s.changing(ctx, a, name)
	if err == nil && r.ReadUsername == "" {
		err = notFound("credential of the repository", name, "give it one", fault.Do("put-repository-credential", name))
	}
	if err != nil {
		return err
	}
	return s.setCredential(ctx, a, r, "", nil)
}

func (s *Repositories) setCredential(ctx context.Context, a Actor, r store.Repository, username string, sealed []byte) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.SetReadCredential(ctx, r.ID, username, sealed); err != nil {
			return err
		}
		return tx.Journal(ctx, r.ID, "", a.ID, journal.RepositoryCredentialPut{Gone: username == "", Repository: r.Name})
	})
}

// changing finds a repository that the actor may change.
func (s *Repositories) changing(ctx context.Context, a Actor, name string) (store.Repository, error) {
	r, err := s.repository(ctx, a, name)
	if err == nil && !a.may(policy.ChangeRepository) {
		err = denied(a, "change repositories")
	}
	return r, err
}

// ChangeRepository changes whose a repository is.
func (s *Repositories) ChangeRepository(ctx context.Context, a Actor, name string, in wire.RepositoryChange) (wire.Repository, error) {
	r, err := s.changing(ctx, a, name)
	if err != nil {
		return wire.Repository{}, err
	}
	if in.Team == nil {
		return repositoryView(r), nil
	}
	team, err := s.people.team(ctx, *in.Team)
	if err != nil {
		return wire.Repository{}, err
	}
	r.TeamID, r.Team = team.ID, team.Name
	return repositoryView(r), s.store.Write(ctx, func(tx *store.Tx) error {
		now, err := tx.RepositoryByID(ctx, r.ID)
		if err == nil {
			err = matches(ctx, quote(r.Name), repositoryView(now))
		}
		if err != nil {
			return err
		}
		if err := tx.SetRepositoryTeam(ctx, r.ID, team.ID); err != nil {
			return err
		}
		return tx.Journal(ctx, r.ID, "", a.ID, journal.RepositoryChanged{Repository: r.Name, Team: r.Team})
	})
}
