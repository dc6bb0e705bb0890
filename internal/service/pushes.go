package service

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/fault"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/wire"
)

// Pushes hears of pushes from git hosts.
type Pushes struct {
	store        *store.Store
	vault        *vault.Vault
	now          func() time.Time
	definitions  *Definitions
	prebuilds    *Prebuilds
	repositories *Repositories
}

// NewPushKey gives a repository a fresh key for its git host to sign with, or
// the one that is given.
func (s *Pushes) NewPushKey(ctx context.Context, a Actor, repository, key string) (wire.PushKey, error) {
	r, err := s.repositories.changing(ctx, a, repository)
	if err != nil {
		return wire.PushKey{}, err
	}
	if key == "" {
		key, _ = newToken("yb_push_")
	}
	sealed, err := s.vault.Seal(key, "push", r.ID)
	if err != nil {
		return wire.PushKey{}, err
	}
	return wire.PushKey{Repository: r.Name, Key: key}, s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.SetPushKey(ctx, r.ID, sealed); err != nil {
			return err
		}
		return tx.Journal(ctx, r.ID, "", a.ID, journal.PushKeyMade{Repository: r.Name})
	})
}

// Pushed takes the news of a push: body as it came, with the time and mark
// from its headers. Every wrong one is answered alike.
func (s *Pushes) Pushed(ctx context.Context, in wire.Push, body []byte, at, mark string) (wire.Pushed, error) {
	refused := stranger("push-mark", "this news of a push is not signed by its repository's git host, or is too old", "see docs/pushes.md; an operator makes a fresh key", fault.Do("make-push-key", "REPOSITORY"))
	sent, err := time.Parse(time.RFC3339, at)
	if err != nil || s.now().Sub(sent).Abs() > pushWindow {
		return wire.Pushed{}, refused
	}
	candidates, err := s.store.Read().RepositoriesByURL(ctx, in.Repository)
	if err != nil {
		return wire.Pushed{}, err
	}
	var from []store.Repository
	for _, r := range candidates {
		if len(r.PushKey) == 0 {
			continue
		}
		key, err := s.vault.Open(r.PushKey, "push", r.ID)
		if err != nil {
			return wire.Pushed{}, err
		}
		if hmac.Equal([]byte(PushMark(key, at, body)), []byte(mark)) {
			from = append(from, r)
		}
	}
	if len(from) == 0 {
		return wire.Pushed{}, refused
	}
	var out wire.Pushed
	for _, r := range from {
		s.definitions.lookForDrift(r, in.Branch)
		p, err := s.store.Read().PrebuildPlan(ctx, r.ID, in.Branch)
		if errors.Is(err, store.ErrNotFound) || (err == nil && !p.OnPush) {
			continue
		}
		if err == nil {
			var run *store.PrebuildRun
			if run, err = s.prebuilds.runOrLater(ctx, p, fmt.Sprintf("on the push of %.10s", in.Commit)); run != nil {
				out.Runs++
			}
		}
		if err != nil {
			return out, err
		}
	}
	return out, nil
}

// pushWindow bounds how old the news of a push may be: older ones are replays.
const pushWindow = 5 * time.Minute

// PushMark is what stands in the header Push-Mark: HMAC-SHA256 (RFC 2104) of
// the header Push-Time, a line feed and the body, in hexadecimal.
func PushMark(key, at string, body []byte) string {
	m := hmac.New(sha256.New, []byte(key))
	fmt.Fprintf(m, "%s\n", at)
	m.Write(body)
	return hex.EncodeToString(m.Sum(nil))
}
