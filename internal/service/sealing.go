package service

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/wire"
)

// Sealing is the keys that everything secret in the records is sealed with: another is
// made while the service runs, what older ones sealed is sealed anew, and they are
// retired once nothing needs them.
type Sealing struct {
	store *store.Store
	vault *vault.Vault
	now   func() time.Time
	mu    sync.Mutex // one pass at a time
	need  map[uint32]int
	again chan struct{}
}

const (
	// metaSealing is what is known of the keys, in the installation's own table.
	metaSealing = "sealing keys"
	// MetaSealed is a known word there, sealed; by it a key is known at a start.
	MetaSealed = "sealed"
	sealedWord = "yardbench"
	// oldKeyKept is how long an older key is kept after another was made: longer than
	// anything sealed is out with browsers (half a day) or kept as an answer (a day).
	oldKeyKept    = 48 * time.Hour
	sealingEach   = 10 * time.Minute
	sealedAtATime = 100
)

// keyNote is what is known of a key.
type keyNote struct {
	MadeAt    time.Time  `json:"made_at"`
	RetiresAt *time.Time `json:"retires_at,omitempty"`
}

func keyName(id uint32) string { return fmt.Sprintf("%08x", id) }

func notes(ctx context.Context, q interface {
	Meta(ctx context.Context, key string) (string, error)
}) (map[string]keyNote, error) {
	out := map[string]keyNote{}
	text, err := q.Meta(ctx, metaSealing)
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &out)
	}
	return out, err
}

func putNotes(ctx context.Context, tx *store.Tx, of map[string]keyNote) error {
	text, err := json.Marshal(of)
	if err != nil {
		return err
	}
	return tx.SetMeta(ctx, metaSealing, string(text))
}

// List lists the keys, the one that seals now last.
func (s *Sealing) List(ctx context.Context, a Actor) ([]wire.SealingKey, error) {
	if !a.may(policy.ChangeKeys) {
		return nil, denied(a, "see the keys that secrets are sealed with")
	}
	known, err := notes(ctx, s.store.Read())
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []wire.SealingKey{}
	for _, k := range s.vault.Keys() {
		v := wire.SealingKey{ID: keyName(k.ID), Current: k.Current, Seals: s.need[k.ID]}
		if n, ok := known[v.ID]; ok {
			if v.RetiresAt = n.RetiresAt; !n.MadeAt.IsZero() {
				v.MadeAt = &n.MadeAt
			}
		}
		out = append(out, v)
	}
	return out, err
}

// Rotate makes another key, by which values are sealed from now on, and has what older
// ones sealed sealed anew. At once has the older ones retired as soon as that is done:
// whoever looks at a port then signs in there again.
func (s *Sealing) Rotate(ctx context.Context, a Actor, in wire.NewSealingKey) (wire.SealingKey, error) {
	if !a.may(policy.ChangeKeys) {
		return wire.SealingKey{}, denied(a, "change the keys that secrets are sealed with")
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if n := len(s.vault.Keys()); n >= maxSealingKeys {
		return wire.SealingKey{}, conflict("too-many", fmt.Sprintf("there are %d keys, as older ones are needed still", n), "wait until they are retired")
	}
	k, err := s.vault.Rotate()
	if err != nil {
		return wire.SealingKey{}, err
	}
	word, err := s.vault.Seal(sealedWord, "meta", MetaSealed)
	if err != nil {
		return wire.SealingKey{}, err
	}
	now := s.now().UTC()
	retires := now.Add(oldKeyKept)
	if in.AtOnce {
		retires = now
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		known, err := notes(ctx, tx)
		if err != nil {
			return err
		}
		for _, old := range s.vault.Keys() {
			n := known[keyName(old.ID)]
			if old.Current {
				n.MadeAt, n.RetiresAt = now, nil
			} else if n.RetiresAt == nil || in.AtOnce {
				n.RetiresAt = &retires
			}
			known[keyName(old.ID)] = n
		}
		if err := putNotes(ctx, tx, known); err != nil {
			return err
		}
		if err := tx.SetMeta(ctx, MetaSealed, hex.EncodeToString(word)); err != nil {
			return err
		}
		return tx.Journal(ctx, keyName(k.ID), "", a.ID, journal.SealingKeyMade{Key: keyName(k.ID)})
	})
	select {
	case s.again <- struct{}{}:
	default: // it is looked through soon in any case
	}
	return wire.SealingKey{ID: keyName(k.ID), Current: true, MadeAt: &now}, err
}

const maxSealingKeys = 8

// Run seals anew what older keys sealed, and retires them, until ctx ends.
func (s *Sealing) Run(ctx context.Context) {
	for {
		if err := s.pass(ctx); err != nil && ctx.Err() == nil {
			slog.Error("seal anew what older keys sealed", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-s.again:
		case <-time.After(sealingEach):
		}
	}
}

// pass looks through everything that is sealed once, where there is an older key.
func (s *Sealing) pass(ctx context.Context) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := s.vault.Keys()
	if len(all) < 2 {
		s.need = nil
		return nil
	}
	current := uint32(0)
	for _, k := range all {
		if k.Current {
			current = k.ID
		}
	}
	need := map[uint32]int{}
	for _, c := range store.SealedColumns {
		if err := s.column(ctx, c, current, need); err != nil {
			return fmt.Errorf("%s.%s: %w", c.Table, c.Name, err)
		}
	}
	s.need = need
	for _, k := range all {
		if !k.Current && need[k.ID] == 0 {
			if err := s.retire(ctx, k.ID); err != nil {
				return err
			}
		}
	}
	return nil
}

// column seals the values of a column anew that another key sealed; those that it could
// not are counted by the key that they need.
func (s *Sealing) column(ctx context.Context, c store.Column, current uint32, need map[uint32]int) error {
	for row := int64(-1); ; {
		values, err := s.store.Read().SealedAfter(ctx, c, row, sealedAtATime)
		if err != nil || len(values) == 0 {
			return err
		}
		row = values[len(values)-1].Row
		type change struct {
			was  store.SealedValue
			anew []byte
		}
		var changes []change
		for _, v := range values {
			if len(v.Sealed) == 0 || vault.By(v.Sealed) == current {
				continue
			}
			plain, err := s.vault.Open(v.Sealed, v.Where...)
			if err == nil {
				var anew []byte
				if anew, err = s.vault.Seal(plain, v.Where...); err == nil {
					changes = append(changes, change{v, anew})
				}
			}
			if err != nil { // it opens with none of ours: nothing is lost by leaving it
				slog.Error("a sealed value stays as it is", "table", c.Table, "row", v.Row, "error", err)
				need[vault.By(v.Sealed)]++
			}
		}
		if len(changes) == 0 {
			continue
		}
		err = s.store.Write(ctx, func(tx *store.Tx) error {
			for _, ch := range changes {
				if err := tx.Reseal(ctx, c, ch.was, ch.anew); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
}

// retire forgets an older key, once its time is over, the known word is not sealed by
// it, and a whole look found nothing that needs it.
func (s *Sealing) retire(ctx context.Context, id uint32) error {
	q := s.store.Read()
	known, err := notes(ctx, q)
	if err != nil {
		return err
	}
	n, noted := known[keyName(id)]
	if !noted || n.RetiresAt == nil { // another was made, and what was to be noted was not: it is from now on
		at := s.now().UTC().Add(oldKeyKept)
		n.RetiresAt = &at
		known[keyName(id)] = n
		word, err := s.vault.Seal(sealedWord, "meta", MetaSealed)
		if err != nil {
			return err
		}
		return s.store.Write(ctx, func(tx *store.Tx) error {
			if err := tx.SetMeta(ctx, MetaSealed, hex.EncodeToString(word)); err != nil {
				return err
			}
			return putNotes(ctx, tx, known)
		})
	}
	if s.now().Before(*n.RetiresAt) {
		return nil
	}
	text, err := q.Meta(ctx, MetaSealed)
	if err != nil {
		return err
	}
	word, err := hex.DecodeString(text)
	if err != nil || vault.By(word) == id || bytes.Equal(word, nil) {
		return errors.Join(err, errors.New("the known word is sealed by the key that is to be retired"))
	}
	delete(known, keyName(id))
	// The records first: a key that is forgotten twice is forgotten.
	if err := s.store.Write(ctx, func(tx *store.Tx) error {
		if err := putNotes(ctx, tx, known); err != nil {
			return err
		}
		return tx.Journal(ctx, keyName(id), "", serviceName, journal.SealingKeyRetired{Key: keyName(id)})
	}); err != nil {
		return err
	}
	return s.vault.Retire(id)
}
