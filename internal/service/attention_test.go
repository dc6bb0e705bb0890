package service

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/store"
	"yardbench/wire"
)

// failWith has a workspace fail at a step, with a log.
func failWith(t *testing.T, s *inner, w store.Workspace, step, cause, log string) {
	t.Helper()
	ctx := t.Context()
	var sheet store.Sheet
	if err := s.rooms.Store.Write(ctx, func(tx *store.Tx) (err error) {
		if sheet, err = tx.OpenSheet(ctx, w.ID, lifecycle.StartSheet); err != nil {
			return err
		}
		st, err := tx.BeginStep(ctx, store.Step{SheetID: sheet.ID, Key: "x", Title: step})
		if err != nil {
			return err
		}
		if err = tx.EndStep(ctx, st, lifecycle.FailedStep, false, cause); err != nil {
			return err
		}
		return tx.CloseSheet(ctx, sheet.ID, lifecycle.FailedStep, cause)
	}); err != nil {
		t.Fatal(err)
	}
	path := s.rooms.Keeper.Logs.LogPath(w.ID, sheet.Number, 1)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(log), 0o600); err != nil {
		t.Fatal(err)
	}
}

// What needs somebody is told by its cause, to each of what they may see, with what its
// logs have in common; all that have it can be asked something, and it can be quiet.
func TestAttention(t *testing.T) {
	s, ingrid, astrid := bare(t)
	mats := addPersonTo(t, s, "mats", policy.Developer)
	ctx := t.Context()
	list := func(a Actor) []wire.Attention {
		t.Helper()
		all, err := s.Attention.Attention(ctx, a)
		if err != nil {
			t.Fatal(err)
		}
		return all
	}
	if all := list(astrid); len(all) != 0 {
		t.Errorf("of nothing there is %+v", all)
	}
	for i, a := range []Actor{ingrid, ingrid, mats} {
		name := fmt.Sprint("quay", i)
		w := addWorkspace(t, s, a, name, lifecycle.Failed)
		if err := s.rooms.Store.Write(ctx, func(tx *store.Tx) error {
			w.Cause = name + ": the image cannot be fetched: dial 10.0.0." + fmt.Sprint(i) + ":443"
			return tx.SaveWorkspace(ctx, w)
		}); err != nil {
			t.Fatal(err)
		}
		failWith(t, s, w, "Image", "x", fmt.Sprintf("asking for %s\nlayer %d of 7\nthe mirror answers 503\nother %s\n", name, i, strings.Repeat("z", i)))
	}
	alone := addWorkspace(t, s, mats, "alone", lifecycle.Ready)
	if err := s.rooms.Store.Write(ctx, func(tx *store.Tx) error {
		return tx.SetCondition(ctx, alone, lifecycle.DiskFull, "no room is left")
	}); err != nil {
		t.Fatal(err)
	}
	all := list(astrid)
	if len(all) != 2 || all[0].Count != 3 || all[0].People != 2 || all[0].Step != "Image" || all[0].Cause != "…: the image cannot be fetched: dial …" || strings.Join(all[0].Verbs, " ") != "start rebuild tell" {
		t.Fatalf("they are %+v", all)
	}
	if all[1].Kind != "disk full" || all[1].Count != 1 || all[1].Rank != 2 {
		t.Errorf("the other is %+v", all[1])
	}
	if hers := list(ingrid); len(hers) != 1 || hers[0].Count != 2 || hers[0].ID != all[0].ID {
		t.Errorf("she sees %+v", hers)
	}
	one, err := s.Attention.Cause(ctx, astrid, all[0].ID)
	if err != nil || len(one.Cases) != 3 || strings.Join(one.Lines, "|") != "asking for quay0|the mirror answers 503" {
		t.Errorf("it is %+v, %v", one, err)
	}
	for _, bad := range []string{"", "x", strings.Repeat("f", 100)} {
		if _, err := s.Attention.Cause(ctx, astrid, bad); status(err) != 404 {
			t.Errorf("the cause %q is %v", bad, err)
		}
	}

	// A list of those that have it, and an operation on them.
	rows, err := s.Workspaces.List(ctx, astrid, WorkspaceQuery{All: true, Cause: all[0].ID})
	if err != nil || len(rows.Items) != 3 {
		t.Errorf("they are listed as %+v, %v", rows.Items, err)
	}
	o, err := s.Operations.Make(ctx, astrid, wire.NewOperation{Verb: "tell", Reason: "the mirror is mended soon", Where: &wire.WorkspaceWhere{All: true, Cause: all[0].ID}})
	if err != nil || o.Total != 3 {
		t.Errorf("an operation is asked of %+v, %v", o, err)
	}

	// Quiet, with a reason, for a time, by an operator.
	for _, c := range []struct {
		who  Actor
		in   wire.NewQuiet
		want int
	}{{mats, wire.NewQuiet{Reason: "x", Seconds: 60}, 403}, {astrid, wire.NewQuiet{Reason: " ", Seconds: 60}, 422}, {astrid, wire.NewQuiet{Reason: "x", Seconds: 59}, 422}, {astrid, wire.NewQuiet{Reason: "x", Seconds: 31 * 24 * 3600}, 422}} {
		if _, err := s.Attention.Quiet(ctx, c.who, all[0].ID, c.in); status(err) != c.want {
			t.Errorf("%s, %+v: %v", c.who.Name, c.in, err)
		}
	}
	if v, err := s.Attention.Quiet(ctx, astrid, all[0].ID, wire.NewQuiet{Reason: "moving day", Seconds: 3600}); err != nil || v.Quiet == nil || v.Quiet.By != "astrid" {
		t.Errorf("quiet it is %+v, %v", v, err)
	}
	if now := list(astrid); now[0].ID != all[1].ID || now[1].Quiet == nil || now[1].Rank != 2 {
		t.Errorf("then they are %+v", now)
	}
	s.Attention.now = func() time.Time { return time.Now().Add(time.Hour + time.Second) }
	if now := list(astrid); now[0].ID != all[0].ID || now[0].Quiet != nil {
		t.Errorf("after its time they are %+v", now)
	}
	s.Attention.now = time.Now
	if err := s.Attention.Again(ctx, astrid, all[0].ID); err != nil {
		t.Error(err)
	}
	if err := s.Attention.Again(ctx, astrid, all[0].ID); status(err) != 404 {
		t.Errorf("twice it is %v", err)
	}
}
