package service

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	core "yardbench/internal/core/luggage"
	"yardbench/internal/reconcile"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Another key is made under load: nothing that is sealed is lost, every column is
// sealed anew, and the older key is forgotten once nothing needs it.
func TestSealingKeys(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	v, st := s.rooms.Vault, s.rooms.Store
	set := func(name, value string) {
		t.Helper()
		if _, err := s.Secrets.Put(ctx, ingrid, Mine, name, wire.SecretValue{Value: value, Everywhere: true}); err != nil {
			t.Error(err)
		}
	}
	for n := range 120 { // more than are looked through at a time
		set(fmt.Sprintf("KEY_%d", n), fmt.Sprint("value ", n))
	}
	if err := s.GitHosts.PutGitCredential(ctx, ingrid, "git.example", wire.GitCredential{Username: "ingrid", Password: "hush"}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.GitKeys.Put(ctx, ingrid, wire.PutGitKey{New: true}); err != nil {
		t.Fatal(err)
	}
	luggage, err := v.Seal("tides", reconcile.LuggagePlace(ingrid.ID, ".tides")...)
	if err != nil {
		t.Fatal(err)
	}
	if err := st.Write(ctx, func(tx *store.Tx) error {
		return tx.PutLuggage(ctx, ingrid.ID, store.Luggage{File: core.File{Path: ".tides"}, Sealed: luggage})
	}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Sealing.Rotate(ctx, ingrid, wire.NewSealingKey{}); status(err) != 403 {
		t.Errorf("somebody makes another key: %v", err)
	}
	first := v.Keys()[0].ID

	now := time.Now()
	s.Sealing.now = func() time.Time { return now }
	key, err := s.Sealing.Rotate(ctx, astrid, wire.NewSealingKey{})
	if err != nil || key.ID == keyName(first) || !key.Current {
		t.Fatalf("%+v %v", key, err)
	}
	var wg sync.WaitGroup
	for part := range 4 {
		wg.Go(func() {
			for n := part; n < 120; n += 4 {
				set(fmt.Sprintf("KEY_%d", n), fmt.Sprint("newer ", n))
			}
		})
	}
	for range 3 {
		if err := s.Sealing.pass(ctx); err != nil {
			t.Error(err)
		}
	}
	wg.Wait()
	if len(v.Keys()) != 2 {
		t.Error("the older key is forgotten before its time")
	}
	now = now.Add(oldKeyKept + time.Second)
	if err := s.Sealing.pass(ctx); err != nil {
		t.Fatal(err)
	}
	if all := v.Keys(); len(all) != 1 || keyName(all[0].ID) != key.ID {
		t.Fatalf("the keys are %+v", all)
	}
	seen := 0
	for _, c := range store.SealedColumns {
		values, err := st.Read().SealedAfter(ctx, c, -1, 1000)
		if err != nil {
			t.Fatal(err)
		}
		for _, sealed := range values {
			if len(sealed.Sealed) == 0 {
				continue
			}
			seen++
			if text, err := v.Open(sealed.Sealed, sealed.Where...); err != nil || c.Table == "secrets" && text[:5] != "newer" {
				t.Errorf("%s of %v opens as %q, %v", c.Table, sealed.Where, text, err)
			}
		}
	}
	if seen != 123 {
		t.Errorf("%d sealed values are left", seen)
	}
	text, err := st.Read().Meta(ctx, metaSealing)
	if err != nil || len(text) == 0 {
		t.Errorf("nothing is known of the keys: %v", err)
	}

	// A service that ended between the key and the note of it goes on at its next start.
	if _, err := v.Rotate(); err != nil {
		t.Fatal(err)
	}
	if err := s.Sealing.pass(ctx); err != nil || len(v.Keys()) != 2 {
		t.Fatalf("%v, by %v", err, v.Keys())
	}
	now = now.Add(oldKeyKept + time.Second)
	if err := s.Sealing.pass(ctx); err != nil || len(v.Keys()) != 1 {
		t.Fatalf("%v, by %v", err, v.Keys())
	}
	// At once, and a value that opens with none keeps the key that it names.
	if err := st.Write(ctx, func(tx *store.Tx) error {
		strange, err := v.Seal("x", "elsewhere")
		if err != nil {
			return err
		}
		return tx.PutGitCredential(ctx, store.Sealed{PersonID: astrid.ID, Name: "moved.example", Username: "x", Sealed: strange})
	}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Sealing.Rotate(ctx, astrid, wire.NewSealingKey{AtOnce: true}); err != nil {
		t.Fatal(err)
	}
	if err := s.Sealing.pass(ctx); err != nil || len(v.Keys()) != 2 {
		t.Fatalf("%v, by %v", err, v.Keys())
	}
	list, err := s.Sealing.List(ctx, astrid)
	if err != nil || len(list) != 2 || list[0].Seals != 1 || !list[1].Current {
		t.Errorf("they are listed as %+v, %v", list, err)
	}
	if err := st.Write(ctx, func(tx *store.Tx) error {
		return tx.DropGitCredential(context.WithoutCancel(ctx), astrid.ID, "moved.example")
	}); err != nil {
		t.Fatal(err)
	}
	if err := s.Sealing.pass(ctx); err != nil || len(v.Keys()) != 1 {
		t.Fatalf("%v, by %v", err, v.Keys())
	}
}
