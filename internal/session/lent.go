package session

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"yardbench/internal/githost"
	"yardbench/internal/store"
)

// freshFor is how long what a host has lent must count yet to be used: what git does
// with it takes a while.
const freshFor = 2 * time.Minute

// Lending is what git hosts lend people.
type Lending struct{ *Sessions }

// Lending is what git hosts lend people.
func (s *Sessions) Lending() Lending { return Lending{s} }

// HostPlace is what the secret that a git host knows this service by is bound to.
func HostPlace(host string) []string { return []string{"git-host", host} }

// GitHost is a git host as it is asked.
func (s Lending) GitHost(h store.GitHost, callback string) (out githost.Host, err error) {
	out = githost.Host{Authorize: h.Authorize, Token: h.Token, Device: h.Device, Revoke: h.Revoke, Client: h.Client, Scopes: strings.Fields(h.Scopes), Callback: callback, Repositories: h.Repositories, Member: h.Member}
	if len(h.Secret) > 0 {
		out.Secret, err = s.Vault.Open(h.Secret, HostPlace(h.Host)...)
	}
	return out, err
}

// connects tells whether people connect with a host, in place of giving it a token.
func (s Lending) connects(ctx context.Context, host string) bool {
	_, err := s.Store.Read().GitHost(ctx, host)
	return err == nil
}

// Lend keeps what somebody was lent by a host.
func (s Lending) Lend(ctx context.Context, tx *store.Tx, person string, h store.GitHost, t githost.Tokens) error {
	row := store.Sealed{PersonID: person, Name: h.Host, Username: h.Username, Lent: true}
	var err error
	if row.Sealed, err = s.Vault.Seal(t.Access, GitPlace(person, h.Host)...); err != nil {
		return err
	}
	if t.Refresh != "" {
		if row.Refresh, err = s.Vault.Seal(t.Refresh, RefreshPlace(person, h.Host)...); err != nil {
			return err
		}
	}
	if !t.Until.IsZero() {
		until := t.Until.UTC()
		row.Until = &until
	}
	return tx.PutGitCredential(ctx, row)
}

// fresh is what a host has lent, made fresh where it ends soon. A host that is away
// leaves it as it is; one that refuses has taken it back, which is noted.
func (s Lending) fresh(ctx context.Context, row store.Sealed) (store.Sealed, error) {
	stale := func() bool {
		return row.TakenBackAt == nil && row.Until != nil && s.Now().After(row.Until.Add(-freshFor))
	}
	if !stale() {
		return row, nil
	}
	// Whoever comes meanwhile has what it comes to, too: what a host gives it gives once,
	// and one that is away is not asked by each in turn.
	made, err, _ := s.freshening.Do(row.PersonID+" "+row.Name, func() (any, error) {
		// Whoever was before may have done it. It ends with itself, not with the
		// patience of who asked first.
		ctx := context.WithoutCancel(ctx)
		again, err := s.Store.Read().GitCredential(ctx, row.PersonID, row.Name)
		if row = again; err != nil || !row.Lent || !stale() {
			return row, err
		}
		return s.refresh(ctx, row)
	})
	if fresh, is := made.(store.Sealed); is {
		return fresh, err
	}
	return row, err
}

// refresh asks a host for what counts longer.
func (s Lending) refresh(ctx context.Context, row store.Sealed) (store.Sealed, error) {
	h, err := s.Store.Read().GitHost(ctx, row.Name)
	if err != nil {
		return row, err
	}
	var t githost.Tokens
	if len(row.Refresh) == 0 {
		err = githost.ErrRefused // it has ended, and there is nothing to make it fresh by
		if s.Now().Before(*row.Until) {
			return row, nil
		}
	} else {
		ask, aerr := s.GitHost(h, "")
		if aerr != nil {
			return row, aerr
		}
		old, oerr := s.Vault.Open(row.Refresh, RefreshPlace(row.PersonID, row.Name)...)
		if oerr != nil {
			return row, oerr
		}
		t, err = ask.Refresh(ctx, old)
	}
	switch {
	case errors.Is(err, githost.ErrRefused):
		if err := s.Store.Write(ctx, func(tx *store.Tx) error { return tx.TakenBack(ctx, row) }); err != nil {
			return row, err
		}
	case errors.Is(err, githost.ErrAway):
		if s.Now().Before(*row.Until) {
			return row, nil // it counts yet
		}
		return row, fmt.Errorf("what %s lent cannot be made fresh: %w", row.Name, err)
	case err != nil:
		return row, err
	default:
		if err := s.Store.Write(ctx, func(tx *store.Tx) error {
			now, err := tx.GitCredential(ctx, row.PersonID, row.Name)
			if errors.Is(err, store.ErrNotFound) || err == nil && (!now.Lent || !now.UpdatedAt.Equal(row.UpdatedAt)) {
				return nil // it was taken away, or connected anew, meanwhile
			}
			if err != nil {
				return err
			}
			return s.Lend(ctx, tx, row.PersonID, h, t)
		}); err != nil {
			return row, err
		}
	}
	return s.Store.Read().GitCredential(ctx, row.PersonID, row.Name)
}
