package service

import (
	"encoding/json"
	"fmt"
	"testing"

	"yardbench/internal/core/journal"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Failed sign-ins stand in the journal once a minute, with the people whose names were
// given; what is nobody's name may be a password, and is not told.
func TestRefusedSignInsAreTold(t *testing.T) {
	s, _, _ := bare(t)
	ctx := t.Context()
	for n := range 3 {
		if _, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "wrong"}, "cli", Caller{Place: fmt.Sprintf("10.0.0.%d", n)}); err == nil {
			t.Fatal("it is let in")
		}
	}
	if _, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "my-own-password", Password: "ingrid"}, "cli", Caller{}); err == nil {
		t.Fatal("it is let in")
	}
	for n := range 12 { // after ten of a name none is tried
		if _, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "astrid", Password: "wrong"}, "cli", Caller{Place: "10.0.0.1"}); (n < 10) != (status(err) == 401) {
			t.Fatalf("attempt %d is answered %v", n, err)
		}
	}
	for range 2 { // told once
		if err := s.SignIns.tellRefusals(ctx); err != nil {
			t.Fatal(err)
		}
	}
	told, err := s.rooms.Store.Read().Journal(ctx, store.JournalFilter{Kind: "sign-in.refused", Limit: 10})
	if err != nil || len(told) != 1 {
		t.Fatalf("it is told %+v, %v", told, err)
	}
	var said journal.SignInsRefused
	if err := json.Unmarshal(told[0].Data, &said); err != nil || said.Count != 16 || said.TooMany != 2 || len(said.From) != 3 || len(said.People) != 2 || said.People[0] != "ingrid" {
		t.Errorf("it says %s, %v", told[0].Data, err)
	}
}

// A workspace is found by its id as by its name, by whoever may see it.
func TestWorkspacesByID(t *testing.T) {
	s, ingrid, astrid := bare(t)
	w := addWorkspace(t, s, ingrid, "quay", "ready")
	for _, who := range []Actor{ingrid, astrid} {
		if v, err := s.Workspaces.Show(t.Context(), who, w.ID); err != nil || v.Name != "quay" || v.Owner != "ingrid" {
			t.Errorf("%s is shown %+v, %v", who.Name, v, err)
		}
	}
	for _, ref := range []string{"aaaaaaaaaaaaaaaa", w.ID + ".astrid", w.ID[:15]} {
		if _, err := s.Workspaces.Show(t.Context(), ingrid, ref); status(err) != 404 {
			t.Errorf("%s is answered %v", ref, err)
		}
	}
	mats := store.Person{ID: "mats", Name: "mats", Role: "developer"}
	if err := s.rooms.Store.Write(t.Context(), func(tx *store.Tx) error { return tx.AddPerson(t.Context(), mats) }); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Workspaces.Show(t.Context(), Actor{Person: mats}, w.ID); status(err) != 404 {
		t.Errorf("who may not see it is answered %v", err)
	}
}
