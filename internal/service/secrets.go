package service

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/secret"
	"yardbench/internal/fault"
	"yardbench/internal/reconcile"
	"yardbench/internal/repo"
	"yardbench/internal/session"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/wire"
)

// Secrets are the use cases of secrets and of what people sign in to git hosts with.
type Secrets struct {
	keeper       *reconcile.Keeper
	store        *store.Store
	vault        *vault.Vault
	definitions  *Definitions
	repositories *Repositories
}

// PutSecret sets one of the actor's secrets.
func (s *Secrets) PutSecret(ctx context.Context, a Actor, name string, in wire.SecretValue) (wire.Secret, error) {
	if !a.may(policy.ChangeSecrets) {
		return wire.Secret{}, denied(a, "have secrets")
	}
	return s.putSecret(ctx, a, store.Secret{Secret: secret.Secret{Level: secret.OfPerson, Name: name}, SubjectID: a.ID}, in)
}

// PutRepositorySecret sets one of a repository's secrets: for everybody who
// works in it.
func (s *Secrets) PutRepositorySecret(ctx context.Context, a Actor, repository, name string, in wire.SecretValue) (wire.Secret, error) {
	if !a.may(policy.ChangeRepoSecret) {
		return wire.Secret{}, denied(a, "set a repository's secrets")
	}
	r, err := s.repositories.repository(ctx, a, repository)
	if err != nil {
		return wire.Secret{}, err
	}
	if in.Everywhere || len(in.Repositories) > 0 {
		return wire.Secret{}, invalid("a repository's secret is for that repository", "leave out whom else it is given to")
	}
	return s.putSecret(ctx, a, store.Secret{Secret: secret.Secret{Level: secret.OfRepository, Name: name, Repository: r.Name}, SubjectID: r.ID}, in)
}

func (s *Secrets) putSecret(ctx context.Context, a Actor, row store.Secret, in wire.SecretValue) (wire.Secret, error) {
	check := secret.CheckName
	if row.Level != secret.OfPerson {
		check = secret.CheckSharedName
	}
	if err := check(row.Name); err != nil {
		return wire.Secret{}, invalid(err.Error(), "")
	}
	if err := secret.CheckValue(in.Value); err != nil {
		return wire.Secret{}, invalid(err.Error(), "")
	}
	if in.Everywhere && len(in.Repositories) > 0 {
		return wire.Secret{}, invalid("it is given either everywhere or to named repositories", "choose one of the two")
	}
	old, err := s.store.Read().Secrets(ctx, row.Level, row.SubjectID)
	if err != nil {
		return wire.Secret{}, err
	}
	row.Form, row.Everywhere, row.Repositories, row.UpdatedBy = secret.Variable, in.Everywhere, in.Repositories, a.ID
	if i := slices.IndexFunc(old, func(o store.Secret) bool { return o.Name == row.Name }); i >= 0 {
		row.Form = old[i].Form
		if !in.Everywhere && len(in.Repositories) == 0 {
			row.Everywhere, row.Repositories = old[i].Everywhere, old[i].Repositories
		}
	} else if row.Level == secret.OfPerson && !in.Everywhere && len(in.Repositories) == 0 {
		return wire.Secret{}, at(at(invalid(row.Name+" is new: say whom it is given to", ""), "/repositories", "those whose workspaces get it"), "/everywhere", "or all do")
	}
	if in.Form != "" {
		row.Form = secret.Form(in.Form)
	}
	var ids []string
	for _, name := range row.Repositories {
		r, err := s.repositories.repository(ctx, a, name)
		if err != nil {
			return wire.Secret{}, err
		}
		ids = append(ids, r.ID)
	}
	err = s.store.Write(ctx, func(tx *store.Tx) (err error) {
		row.UpdatedAt = tx.Now()
		var now Tagged
		all, err := tx.Secrets(ctx, row.Level, row.SubjectID)
		if i := slices.IndexFunc(all, func(o store.Secret) bool { return o.Name == row.Name }); i >= 0 {
			now = secretView(all[i])
		}
		if err == nil {
			err = matches(ctx, "secret "+row.Name, now)
		}
		if err != nil {
			return err
		}
		row.Version, err = tx.PutSecret(ctx, row, ids, func(version int) ([]byte, error) {
			return s.vault.Seal(in.Value, session.SecretPlace(row.Level, row.SubjectID, row.Name, version)...)
		})
		if err != nil {
			return err
		}
		return tx.Journal(ctx, row.SubjectID, secretOwner(row), a.ID, journal.SecretPut{Name: row.Name, Level: row.Level, Version: row.Version, Form: row.Form, Everywhere: row.Everywhere, Repositories: row.Repositories})
	})
	if err != nil {
		return wire.Secret{}, err
	}
	s.secretsChanged(row)
	return secretView(row), nil
}

// secretOwner is whose matter the journal takes a secret for.
func secretOwner(row store.Secret) string {
	if row.Level == secret.OfPerson {
		return row.SubjectID
	}
	return ""
}

// secretsChanged has the workspaces that a secret goes to checked: what runs
// there may hold the old value.
func (s *Secrets) secretsChanged(row store.Secret) {
	s.keeper.Status.SecretsChanged(func(w store.Workspace) bool {
		if row.Level == secret.OfPerson {
			return w.OwnerID == row.SubjectID
		}
		return w.RepositoryID == row.SubjectID
	})
}

func secretView(r store.Secret) wire.Secret {
	v := wire.Secret{Name: r.Name, Level: string(r.Level), Repository: r.Repository, Form: string(r.Form), Everywhere: r.Everywhere, Repositories: r.Repositories, Version: r.Version, UpdatedAt: r.UpdatedAt}
	if v.Repositories == nil {
		v.Repositories = []string{}
	}
	return v
}

// Secrets lists the actor's secrets.
func (s *Secrets) Secrets(ctx context.Context, a Actor) ([]wire.Secret, error) {
	if !a.may(policy.SeeSecrets) {
		return nil, denied(a, "have secrets")
	}
	return s.secrets(ctx, secret.OfPerson, a.ID)
}

// RepositorySecrets lists a repository's secrets.
func (s *Secrets) RepositorySecrets(ctx context.Context, a Actor, repository string) ([]wire.Secret, error) {
	r, err := s.repositories.repository(ctx, a, repository)
	if err != nil {
		return nil, err
	}
	if !a.may(policy.SeeRepoSecrets) {
		return nil, denied(a, "see a repository's secrets")
	}
	return s.secrets(ctx, secret.OfRepository, r.ID)
}

func (s *Secrets) secrets(ctx context.Context, level secret.Level, subject string) ([]wire.Secret, error) {
	rows, err := s.store.Read().Secrets(ctx, level, subject)
	out := []wire.Secret{}
	for _, r := range rows {
		out = append(out, secretView(r))
	}
	return out, err
}

// DropSecret removes one of the actor's secrets.
func (s *Secrets) DropSecret(ctx context.Context, a Actor, name string) error {
	if !a.may(policy.ChangeSecrets) {
		return denied(a, "have secrets")
	}
	return s.dropSecret(ctx, a, store.Secret{Secret: secret.Secret{Level: secret.OfPerson, Name: name}, SubjectID: a.ID})
}

// DropRepositorySecret removes one of a repository's secrets.
func (s *Secrets) DropRepositorySecret(ctx context.Context, a Actor, repository, name string) error {
	if !a.may(policy.ChangeRepoSecret) {
		return denied(a, "remove a repository's secrets")
	}
	r, err := s.repositories.repository(ctx, a, repository)
	if err != nil {
		return err
	}
	return s.dropSecret(ctx, a, store.Secret{Secret: secret.Secret{Level: secret.OfRepository, Name: name}, SubjectID: r.ID})
}

func (s *Secrets) dropSecret(ctx context.Context, a Actor, row store.Secret) error {
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropSecret(ctx, row.Level, row.SubjectID, row.Name); err != nil {
			return err
		}
		return tx.Journal(ctx, row.SubjectID, secretOwner(row), a.ID, journal.SecretRemoved{Name: row.Name, Level: row.Level})
	})
	if errors.Is(err, store.ErrNotFound) {
		return notFound("secret", row.Name, "see them", fault.Do("list-secrets", ""))
	}
	if err == nil {
		s.secretsChanged(row)
	}
	return err
}

// choices says what becomes of each secret in the actor's workspaces of a
// repository.
func (s *Secrets) choices(ctx context.Context, a Actor, r store.Repository) ([]secret.Choice, error) {
	var all []secret.Secret
	for _, of := range []struct {
		level   secret.Level
		subject string
	}{{secret.OfPerson, a.ID}, {secret.OfRepository, r.ID}} {
		rows, err := s.store.Read().Secrets(ctx, of.level, of.subject)
		if err != nil {
			return nil, err
		}
		for _, row := range rows {
			all = append(all, row.Secret)
		}
	}
	return secret.Choose(r.Name, all), nil
}

// ExplainSecrets says what becomes of each secret in the actor's workspaces of
// a repository, and which its definition asks for in vain.
func (s *Secrets) ExplainSecrets(ctx context.Context, a Actor, repository string) ([]wire.SecretChoice, error) {
	if !a.may(policy.SeeSecrets) {
		return nil, denied(a, "have secrets")
	}
	r, err := s.repositories.repository(ctx, a, repository)
	if err != nil {
		return nil, err
	}
	cs, err := s.choices(ctx, a, r)
	if err != nil {
		return nil, err
	}
	plan, err := s.definitions.plan(ctx, a.ID, r, r.DefaultBranch, choice{})
	var wrong *fault.Fault
	if err != nil && !errors.As(err, &wrong) {
		return nil, err // a definition that is wrong asks for nothing
	}
	wanted := map[string]string{}
	for _, w := range plan.Definition.Secrets {
		wanted[w.Name] = w.Description
	}
	out := []wire.SecretChoice{}
	for _, c := range cs {
		_, is := wanted[c.Name]
		out = append(out, wire.SecretChoice{Name: c.Name, Level: string(c.Level), Form: string(c.Form), Version: c.Version, Given: c.Given, Wanted: is, Why: c.Why})
	}
	for _, n := range secret.Missing(wantedNames(plan.Definition), cs) {
		why := "the definition asks for it and nobody gives it"
		if d := wanted[n]; d != "" {
			why = fmt.Sprintf("%s: %s", d, why)
		}
		out = append(out, wire.SecretChoice{Name: n, Level: "none", Wanted: true, Why: why})
	}
	return out, nil
}

func wantedNames(d definition.Definition) (out []string) {
	for _, w := range d.Secrets {
		out = append(out, w.Name)
	}
	return out
}

// PutGitCredential sets what the actor signs in to a git host with.
func (s *Secrets) PutGitCredential(ctx context.Context, a Actor, host string, c wire.GitCredential) error {
	if !hostName.MatchString(host) {
		return invalid(quote(host)+" is no host", "give a host name, with :PORT where it is not the usual one")
	}
	if err := checkCredential(c); err != nil {
		return err
	}
	sealed, err := s.vault.Seal(c.Password, session.GitPlace(a.ID, host)...)
	if err != nil {
		return err
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.PutGitCredential(ctx, store.Sealed{PersonID: a.ID, Name: host, Username: c.Username, Sealed: sealed}); err != nil {
			return err
		}
		return tx.Journal(ctx, a.ID, a.ID, a.ID, journal.CredentialPut{Host: host})
	})
}

func checkCredential(c wire.GitCredential) error {
	if strings.ContainsAny(c.Username+c.Password, "\r\n\x00") || strings.Contains(c.Username, ":") {
		return invalid("the user name or password holds a character git cannot pass on", "")
	}
	return nil
}

// GitCredentials lists what the actor signs in to git hosts with.
func (s *Secrets) GitCredentials(ctx context.Context, a Actor) ([]wire.KnownCredential, error) {
	rows, err := s.store.Read().GitCredentials(ctx, a.ID)
	out := []wire.KnownCredential{}
	for _, r := range rows {
		out = append(out, wire.KnownCredential{Host: r.Name, Username: r.Username, UpdatedAt: r.UpdatedAt})
	}
	return out, err
}

// DropGitCredential forgets what the actor signs in to a git host with.
func (s *Secrets) DropGitCredential(ctx context.Context, a Actor, host string) error {
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropGitCredential(ctx, a.ID, host); err != nil {
			return err
		}
		return tx.Journal(ctx, a.ID, a.ID, a.ID, journal.CredentialRemoved{Host: host})
	})
	if errors.Is(err, store.ErrNotFound) {
		return notFound("credential of yours for", host, "see yours", fault.Do("list-git-credentials", ""))
	}
	return err
}

// gitCredential is what a person signs in with where a repository is.
func gitCredential(ctx context.Context, s *session.Sessions, person, address string) (repo.Credential, error) {
	c, err := s.GitCredential(ctx, person, repo.Host(address))
	return repo.Credential(c), err
}

var hostName = regexp.MustCompile(`^[A-Za-z0-9.-]{1,253}(:[0-9]{1,5})?$`)
