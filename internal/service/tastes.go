package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"

	"yardbench/internal/core/policy"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Tastes are what people like, kept for them whichever browser they are at.
type Tastes struct {
	store *store.Store
}

// keptBytes bounds one thing that is kept.
const keptBytes = 16 << 10

var keptName = regexp.MustCompile(`^[a-z0-9][a-z0-9.-]{0,119}$`)

// List is what is kept for the actor.
func (s *Tastes) List(ctx context.Context, a Actor) ([]wire.Kept, error) {
	if !a.may(policy.SeeSelf) {
		return nil, denied(a, "see what is kept")
	}
	rows, err := s.store.Read().TastesOf(ctx, a.ID)
	out := []wire.Kept{}
	for _, k := range rows {
		v := wire.Kept{Name: k.Name, At: k.At}
		if err == nil {
			err = json.Unmarshal([]byte(k.Value), &v.Value)
		}
		out = append(out, v)
	}
	return out, err
}

// Keep puts something under a name, in place of what was there.
func (s *Tastes) Keep(ctx context.Context, a Actor, name string, value any) error {
	if !a.may(policy.ChangeSelf) {
		return denied(a, "keep anything")
	}
	if !keptName.MatchString(name) {
		return invalid(quote(name)+" is no name for what is kept", "give one with lower-case letters, digits, dashes and full stops")
	}
	text, err := json.Marshal(value)
	if err != nil {
		return err
	}
	if len(text) > keptBytes {
		return at(invalid(fmt.Sprintf("it is %d bytes, more than the %d that are kept under a name", len(text), keptBytes), "keep less"), "/value", "it is too long")
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		return tx.PutTaste(ctx, a.ID, store.Taste{Name: name, Value: string(text)})
	})
}

// Forget takes away what is under a name.
func (s *Tastes) Forget(ctx context.Context, a Actor, name string) error {
	if !a.may(policy.ChangeSelf) {
		return denied(a, "change what is kept")
	}
	err := s.store.Write(ctx, func(tx *store.Tx) error { return tx.DropTaste(ctx, a.ID, name) })
	if errors.Is(err, store.ErrNotFound) {
		return notFound("kept thing", name, "see what is kept")
	}
	return err
}
