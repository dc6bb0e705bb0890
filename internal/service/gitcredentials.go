package service

import (
	"context"
	"errors"
	"log/slog"
	"strings"

	"yardbench/internal/core/journal"
	"yardbench/internal/fault"
	"yardbench/internal/repo"
	"yardbench/internal/session"
	"yardbench/internal/store"
	"yardbench/wire"
)

// PutGitCredential sets what the actor signs in to a git host with.
func (s *GitHosts) PutGitCredential(ctx context.Context, a Actor, host string, c wire.GitCredential) error {
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
	before, err := s.store.Read().GitCredential(ctx, a.ID, host)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if before.Lent { // it is given back, as where it is removed
		if err := s.giveBack(ctx, before); err != nil {
			slog.Warn("a git host was not told that what it lent is forgotten", "host", host, "error", err)
		}
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
func (s *GitHosts) GitCredentials(ctx context.Context, a Actor) ([]wire.KnownCredential, error) {
	rows, err := s.store.Read().GitCredentials(ctx, a.ID)
	out := []wire.KnownCredential{}
	for _, r := range rows {
		v := wire.KnownCredential{Host: r.Name, Username: r.Username, UpdatedAt: r.UpdatedAt, Lent: r.Lent, TakenBackAt: r.TakenBackAt}
		if len(r.Refresh) == 0 {
			v.Until = r.Until // else it is made fresh
		}
		out = append(out, v)
	}
	return out, err
}

// DropGitCredential forgets what the actor signs in to a git host with. What the host
// has lent it is asked to forget; where it does not answer it ends there in its time.
func (s *GitHosts) DropGitCredential(ctx context.Context, a Actor, host string) error {
	row, err := s.store.Read().GitCredential(ctx, a.ID, host)
	if err == nil && row.Lent {
		if err := s.giveBack(ctx, row); err != nil {
			slog.Warn("a git host was not told that what it lent is forgotten", "host", host, "error", err)
		}
	}
	if err == nil {
		err = s.store.Write(ctx, func(tx *store.Tx) error {
			if err := tx.DropGitCredential(ctx, a.ID, host); err != nil {
				return err
			}
			return tx.Journal(ctx, a.ID, a.ID, a.ID, journal.CredentialRemoved{Host: host})
		})
	}
	if errors.Is(err, store.ErrNotFound) {
		return notFound("credential of yours for", host, "see yours", fault.Do("list-git-credentials", ""))
	}
	return err
}

// gitCredential is what a person signs in with where a repository is.
func gitCredential(ctx context.Context, s *session.Sessions, person, address string) (repo.Credential, error) {
	c, err := s.GitSignIn(ctx, person, address)
	return repo.Credential(c), fromRoom(err)
}
