package service

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"sync"
	"time"
	"unicode"

	"yardbench/internal/store"
	"yardbench/internal/vault"
)

// Twice has what makes something done once, however often it is asked: whoever
// asks sends a key of their own with it, and has the first answer again for a day.
type Twice struct {
	store *store.Store
	vault *vault.Vault
	now   func() time.Time

	mu    sync.Mutex
	under map[[2]string]bool // by person and key: under way in this process
}

// The bounds of keys and answers, in bytes.
const (
	maxKey    = 255
	maxAnswer = 1 << 20
)

// Asking is something that is asked for with a key.
type Asking struct {
	// Before tells that it was done before: Subject is whom that was about, and
	// Answer the answer that was kept; nil where none was, or where the service
	// ended between the two.
	Before  bool
	Subject string
	Answer  []byte

	key  string
	of   Actor
	from *Twice
}

// Begin begins what an actor asks for with a key: the first write with the context
// that it gives stands together with the key. End ends it. An empty key is none.
func (s *Twice) Begin(ctx context.Context, a Actor, key, operation string, in any) (context.Context, *Asking, error) {
	k := &Asking{key: key, of: a, from: s}
	if key == "" || a.ID == "" {
		k.key = ""
		return ctx, k, nil
	}
	for _, r := range key {
		if len(key) > maxKey || r > unicode.MaxASCII || !unicode.IsPrint(r) {
			return ctx, nil, invalidAs("unfit-key", "this is no key: at most 255 letters, digits and marks", "make a random one for each thing that is asked")
		}
	}
	asked, err := json.Marshal(in)
	if err != nil {
		return ctx, nil, err
	}
	what := sha256.Sum256(append([]byte(operation+"\n"), asked...))
	at := [2]string{a.ID, key}
	s.mu.Lock()
	if s.under[at] {
		s.mu.Unlock()
		f := away("under-way", "what was asked with this key is still being done", "ask again in a moment")
		f.After = time.Second
		return ctx, nil, f
	}
	if s.under == nil {
		s.under = map[[2]string]bool{}
	}
	s.under[at] = true // bounded: a person has few things going on at once
	s.mu.Unlock()
	before, err := s.store.Read().AskedWith(ctx, a.ID, key, s.now())
	switch {
	case errors.Is(err, store.ErrNotFound):
		return store.Once(ctx, store.Asked{PersonID: a.ID, Key: key, What: what[:]}), k, nil
	case err == nil && !bytes.Equal(before.What, what[:]):
		err = invalidAs("key-of-another", "this key was sent before, with something else", "make another key for each thing that is asked")
	case err == nil && before.Answer == nil:
		k.Before, k.Subject = true, before.Subject
	case err == nil:
		var text string
		text, err = s.vault.Open(before.Answer, "asked", a.ID, key)
		k.Before, k.Subject, k.Answer = true, before.Subject, []byte(text)
	}
	if err != nil {
		k.End()
		return ctx, nil, err
	}
	return ctx, k, nil
}

// Keep keeps the answer of what was done, for whoever asks again.
func (k *Asking) Keep(ctx context.Context, answer any) error {
	if k.key == "" {
		return nil
	}
	text, err := json.Marshal(answer)
	if err != nil || len(text) > maxAnswer {
		return err
	}
	sealed, err := k.from.vault.Seal(string(text), "asked", k.of.ID, k.key)
	if err != nil {
		return err
	}
	return k.from.store.Write(context.WithoutCancel(ctx), func(tx *store.Tx) error { return tx.Answered(ctx, k.of.ID, k.key, sealed) })
}

// End ends what was begun.
func (k *Asking) End() {
	if k.key == "" {
		return
	}
	k.from.mu.Lock()
	defer k.from.mu.Unlock()
	delete(k.from.under, [2]string{k.of.ID, k.key})
}

// AnswerLost says that something was made, and that its answer is not known any more.
func AnswerLost() error {
	return conflict("answer-lost", "this was done when it was asked before, and its answer was lost when the service ended", "look for what was made; where it held what is shown once, take it away and ask with another key")
}
