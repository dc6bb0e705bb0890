package service

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/gitssh"
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

	prebuilds *Prebuilds
}

// Repositories lists the registered repositories.
func (s *Repositories) Repositories(ctx context.Context, a Actor) ([]wire.Repository, error) {
	rows, err := s.store.Read().Repositories(ctx)
	out := []wire.Repository{}
	for _, r := range rows {
		if a.holds(r.ID) {
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
	return wire.Repository{Name: r.Name, URL: r.URL, DefaultBranch: r.DefaultBranch, SignsPushes: len(r.PushKey) > 0, OwnCredential: r.Reads(), DeployKey: r.ReadKey, Team: r.Team}
}

// repository finds a registered repository.
func (s *Repositories) repository(ctx context.Context, a Actor, name string) (store.Repository, error) {
	r, err := s.store.Read().RepositoryByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) || (err == nil && (!a.holds(r.ID) || !a.may(policy.SeeRepositories))) {
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
	if repo.OverSSH(r.URL) {
		return invalidAs("credential", "the repository is reached by SSH, where a name and a password sign nobody in", "make it a key", fault.Do("make-deploy-key", r.Name))
	}
	_, err = s.mirrors.DefaultBranch(ctx, r.URL, repo.Credential{Username: c.Username, Password: c.Password})
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
	return s.setCredential(ctx, a, r, c.Username, "", sealed)
}

// DropCredential takes a repository's own credential away.
func (s *Repositories) DropCredential(ctx context.Context, a Actor, name string) error {
	r, err := s.changing(ctx, a, name)
	if err == nil && !r.Reads() {
		err = notFound("credential of the repository", name, "give it one", fault.Do("put-repository-credential", name))
	}
	if err != nil {
		return err
	}
	return s.setCredential(ctx, a, r, "", "", nil)
}

// NewDeployKey makes a repository a key that its prebuilds read it with by SSH, in the
// place of what they had. Its public half is put at the git host, for this repository.
func (s *Repositories) NewDeployKey(ctx context.Context, a Actor, name string) (wire.DeployKey, error) {
	r, err := s.changing(ctx, a, name)
	if err == nil && !repo.OverSSH(r.URL) {
		err = invalidAs("credential", r.Name+" is reached by "+r.URL+", where no key signs anybody in", "give it a name and a token, or change its address to that for SSH", fault.Do("put-repository-credential", r.Name))
	}
	if err != nil {
		return wire.DeployKey{}, err
	}
	private, public, err := gitssh.NewKey(r.Name + " by Yard Bench")
	if err != nil {
		return wire.DeployKey{}, err
	}
	sealed, err := s.sessions.Vault.Seal(private, session.ReadPlace(r.ID)...)
	if err != nil {
		return wire.DeployKey{}, err
	}
	return wire.DeployKey{Repository: r.Name, Public: public}, s.setCredential(ctx, a, r, "", public, sealed)
}

func (s *Repositories) setCredential(ctx context.Context, a Actor, r store.Repository, username, key string, sealed []byte) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.SetReadCredential(ctx, r.ID, username, key, sealed); err != nil {
			return err
		}
		return tx.Journal(ctx, r.ID, "", a.ID, journal.RepositoryCredentialPut{Gone: username+key == "", Key: gitssh.Fingerprint(key), Repository: r.Name})
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

// ChangeRepository changes whose a repository is, where it is, and which branch is
// meant where none is named. Workspaces of it stay: they fetch from the new address
// when they are made anew. A credential of its own does not move to another host.
func (s *Repositories) ChangeRepository(ctx context.Context, a Actor, name string, in wire.RepositoryChange) (wire.Repository, error) {
	r, err := s.changing(ctx, a, name)
	if err != nil {
		return wire.Repository{}, err
	}
	next := r
	if in.Team != nil {
		team, err := s.people.team(ctx, *in.Team)
		if err != nil {
			return wire.Repository{}, err
		}
		next.TeamID, next.Team = team.ID, team.Name
	}
	if in.URL != nil {
		next.URL = *in.URL
	}
	if in.URL != nil || in.DefaultBranch != nil {
		if next.DefaultBranch, err = s.branchAt(ctx, a, next, in.DefaultBranch); err != nil {
			return wire.Repository{}, err
		}
	}
	if next.URL == r.URL && next.DefaultBranch == r.DefaultBranch && next.TeamID == r.TeamID {
		return repositoryView(r), nil
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		now, err := tx.RepositoryByID(ctx, r.ID)
		if err == nil {
			err = matches(ctx, quote(r.Name), repositoryView(now))
		}
		if err != nil {
			return err
		}
		if in.Team == nil {
			next.TeamID, next.Team = now.TeamID, now.Team
		}
		if err := tx.ChangeRepository(ctx, next); err != nil {
			return err
		}
		// What one host gave it is not shown to another.
		if now.Reads() && (repo.Host(next.URL) != repo.Host(now.URL) || repo.OverSSH(next.URL) != repo.OverSSH(now.URL)) {
			next.ReadUsername, next.ReadKey = "", ""
			if err := tx.SetReadCredential(ctx, r.ID, "", "", nil); err != nil {
				return err
			}
			if err := tx.Journal(ctx, r.ID, "", a.ID, journal.RepositoryCredentialPut{Gone: true, Repository: r.Name}); err != nil {
				return err
			}
		}
		return tx.Journal(ctx, r.ID, "", a.ID, journal.RepositoryChanged{Repository: r.Name, Team: next.Team, URL: next.URL, Branch: next.DefaultBranch})
	})
	return repositoryView(next), err
}

// branchAt is the default branch of a repository at an address, which the git host is
// asked about with the actor's own credential: the one that is wished for, where it is
// there; the one until now, where nothing is wished for; else what the host says.
func (s *Repositories) branchAt(ctx context.Context, a Actor, r store.Repository, wish *string) (string, error) {
	if err := repo.CheckURL(r.URL); err != nil {
		return "", fromRoom(err)
	}
	cred, err := gitCredential(ctx, s.sessions, a.ID, r.URL)
	if err != nil {
		return "", err
	}
	usual, err := s.mirrors.DefaultBranch(ctx, r.URL, cred)
	if err != nil {
		return "", fromRoom(err)
	}
	want := r.DefaultBranch
	if wish != nil {
		want = *wish
	}
	if want == "" || want == usual {
		return usual, nil
	}
	if err := noRequest(want); err != nil {
		return "", err
	}
	if err := s.mirrors.Fetch(ctx, r.ID, r.URL, cred); err != nil {
		return "", fromRoom(err)
	}
	_, err = s.mirrors.Resolve(ctx, r.ID, want)
	switch {
	case err != nil && wish == nil:
		return usual, nil
	case err != nil:
		return "", fromRoom(err)
	}
	return want, nil
}

// RemoveRepository has a repository registered no more: its plans go with their
// prepared images, and its secrets. Workspaces of it hold it.
func (s *Repositories) RemoveRepository(ctx context.Context, a Actor, name string) error {
	r, err := s.changing(ctx, a, name)
	if err != nil {
		return err
	}
	free := func(q interface {
		WorkspacesOfRepository(context.Context, string) (int, error)
	}) error {
		n, err := q.WorkspacesOfRepository(ctx, r.ID)
		if err == nil && n > 0 {
			err = conflict("has-workspaces", fmt.Sprintf("there are %d workspaces or prebuilds of %s", n, quote(name)), "have them removed first", fault.Do("list-workspaces", ""))
		}
		return err
	}
	// What would be refused at the end is refused before anything goes.
	if err := matches(ctx, quote(r.Name), repositoryView(r)); err != nil {
		return err
	}
	if err := free(s.store.Read()); err != nil {
		return err
	}
	plans, err := s.store.Read().PrebuildPlans(ctx, r.ID)
	if err != nil {
		return err
	}
	for _, p := range plans {
		if err := s.prebuilds.DropPlan(ctx, a, r.Name, p.Branch); err != nil {
			return err
		}
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if err := free(tx); err != nil {
			return err
		}
		now, err := tx.RepositoryByID(ctx, r.ID)
		if err == nil {
			err = matches(ctx, quote(r.Name), repositoryView(now))
		}
		if err != nil {
			return err
		}
		if err := tx.RemoveRepository(ctx, r.ID); err != nil {
			return err
		}
		return tx.Journal(ctx, r.ID, "", a.ID, journal.RepositoryRemoved{Repository: r.Name, URL: r.URL})
	})
	if errors.Is(err, store.ErrNotFound) {
		return nil // somebody else did so meanwhile
	}
	if err != nil {
		return err
	}
	return s.mirrors.Drop(r.ID)
}
