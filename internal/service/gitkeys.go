package service

import (
	"context"
	"errors"
	"strings"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/gitssh"
	"yardbench/internal/session"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/wire"
)

// GitKeys are what people sign in to git hosts with by SSH, and sign commits with: one
// each. The private half leaves the service for nobody.
type GitKeys struct {
	store    *store.Store
	vault    *vault.Vault
	sessions *session.Sessions
}

// Show is the actor's.
func (s *GitKeys) Show(ctx context.Context, a Actor) (wire.GitKey, error) {
	if !a.may(policy.SeeSelf) {
		return wire.GitKey{}, denied(a, "see your key for git")
	}
	k, err := s.store.Read().GitKey(ctx, a.ID)
	if errors.Is(err, store.ErrNotFound) {
		return wire.GitKey{}, noGitKey()
	}
	return gitKeyView(k), err
}

func noGitKey() error {
	return notFound("key for git", "yours", "make one", fault.Do("put-git-key", ""))
}

func gitKeyView(k store.GitKey) wire.GitKey {
	return wire.GitKey{Public: k.Public, Fingerprint: gitssh.Fingerprint(k.Public), SignsCommits: k.Signs, MadeAt: k.MadeAt}
}

// Put makes the actor a key, takes one that they have, or changes what theirs is for.
func (s *GitKeys) Put(ctx context.Context, a Actor, in wire.PutGitKey) (wire.GitKey, error) {
	if !a.may(policy.ChangeSelf) {
		return wire.GitKey{}, denied(a, "change your key for git")
	}
	if in.New && in.Private != "" {
		return wire.GitKey{}, invalid("a key is made or brought, not both", "leave one of the two out")
	}
	private, public, from := in.Private, "", "brought"
	comment := a.Name + " by Yard Bench"
	var err error
	switch {
	case in.New:
		from = "made"
		if private, public, err = gitssh.NewKey(comment); err != nil {
			return wire.GitKey{}, err
		}
	case private != "":
		private = strings.ReplaceAll(strings.TrimSpace(private), "\r\n", "\n") + "\n"
		if public, err = gitssh.Public(private, comment); err != nil {
			return wire.GitKey{}, at(invalid(err.Error(), ""), "/private", "make one here, or bring one without a passphrase, as ssh-keygen -t ed25519 -N '' writes it")
		}
	default:
		from = ""
	}
	var sealed []byte
	if public != "" {
		if sealed, err = s.vault.Seal(private, session.KeyPlace(a.ID)...); err != nil {
			return wire.GitKey{}, err
		}
	}
	var k store.GitKey
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		had, err := tx.GitKey(ctx, a.ID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		k = had
		if public != "" {
			k = store.GitKey{PersonID: a.ID, Public: public, Sealed: sealed, Signs: had.Signs, MadeAt: tx.Now()}
		} else if k.Public == "" {
			return noGitKey()
		}
		if in.SignsCommits != nil {
			k.Signs = *in.SignsCommits
		}
		if err := tx.PutGitKey(ctx, k); err != nil {
			return err
		}
		return tx.Journal(ctx, a.ID, a.ID, a.ID, journal.GitKeyPut{Fingerprint: gitssh.Fingerprint(k.Public), From: from, Signs: k.Signs})
	})
	return gitKeyView(k), err
}

// Drop forgets the actor's: nothing is signed with it from then on.
func (s *GitKeys) Drop(ctx context.Context, a Actor) error {
	if !a.may(policy.ChangeSelf) {
		return denied(a, "change your key for git")
	}
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropGitKey(ctx, a.ID); err != nil {
			return err
		}
		return tx.Journal(ctx, a.ID, a.ID, a.ID, journal.GitKeyRemoved{})
	})
	if errors.Is(err, store.ErrNotFound) {
		return noGitKey()
	}
	return err
}
