package store

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"reflect"
	"testing"
	"time"

	"yardbench/internal/core/cost"
	"yardbench/internal/core/definition"
	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/rules"
)

// populated is a store with a person and a repository.
func populated(t *testing.T) *Store {
	t.Helper()
	s := open(t, filepath.Join(t.TempDir(), "a.db"), time.Now)
	err := s.Write(t.Context(), func(tx *Tx) error {
		for _, team := range []Team{{"t1", "Timetable"}, {"t2", "Harbour"}} {
			if err := tx.AddTeam(t.Context(), team); err != nil {
				return err
			}
		}
		for _, p := range []Person{{ID: "p1", Name: "ingrid", TeamID: "t1"}, {ID: "p2", Name: "jonas", TeamID: "t1"}, {ID: "p3", Name: "mats", TeamID: "t2"}} {
			p.Role = "developer"
			if err := tx.AddPerson(t.Context(), p); err != nil {
				return err
			}
		}
		return tx.AddRepository(t.Context(), Repository{ID: "r1", Name: "tide-board", URL: "http://git.skerryline.example/tide-board.git", DefaultBranch: "main"})
	})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func launched(t *testing.T, s *Store, id, owner, kind string) {
	t.Helper()
	w := Workspace{ID: id, OwnerID: owner, Name: "w-" + id, RepositoryID: "r1", Branch: "main", Phase: lifecycle.Waiting, Wanted: lifecycle.WantReady, Body: 1, Volume: 1, StewardToken: []byte{1},
		Kind: kind, Size: "small", CoresMilli: 1000, MemoryBytes: 2 << 30, DiskBytes: 10 << 30, PortKey: "key" + id, Plan: &Plan{Definition: definition.Definition{Image: "a", Folder: "/x"}}}
	err := s.Write(t.Context(), func(tx *Tx) error {
		if err := tx.AddWorkspace(t.Context(), &w); err != nil {
			return err
		}
		return tx.Journal(t.Context(), id, owner, owner, journal.WorkspaceLaunched{For: kind})
	})
	if err != nil {
		t.Fatal(err)
	}
}

// The metered time that is stored is what the journal comes to, whatever
// happened, and a transaction that was undone left none.
func TestMeteredTimeIsTheJournals(t *testing.T) {
	s := populated(t)
	ctx := t.Context()
	r := rand.New(rand.NewPCG(4, 4))
	var prices []cost.Since
	for n := range 4 { // the rates change three times meanwhile
		at := time.Date(2026, 11, 2, 6+n, 20, 0, 0, time.UTC)
		err := s.Write(ctx, func(tx *Tx) error {
			tx.At(at)
			_, err := tx.AddRules(ctx, RulesVersion{Document: "x"})
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
		prices = append(prices, cost.Since{Version: n + 1, From: at, Rates: rules.Rates{RunningHour: map[string]rules.Money{"small": rules.Money(100_000 * (n + 1))}, StorageGiBMonth: rules.Money(90_000 * (n + 2)), PrebuildMinute: 4000}})
	}
	for n := range 12 {
		kind := ForPerson
		if n%4 == 3 {
			kind = ForPrebuild
		}
		launched(t, s, fmt.Sprint("w", n), "p1", kind)
	}
	for n := range 600 {
		id := fmt.Sprint("w", r.IntN(12))
		undo := r.IntN(5) == 0
		err := s.Write(ctx, func(tx *Tx) error {
			tx.At(time.Date(2026, 11, 2, 8, 0, n*37, 0, time.UTC))
			w, err := tx.WorkspaceByID(ctx, id)
			if err != nil {
				return err
			}
			next := w.Phase.Next()
			switch {
			case w.Phase == lifecycle.Removed:
				return nil
			case w.Phase == lifecycle.Ready && r.IntN(3) == 0:
				err = tx.SetConditionSince(ctx, w, lifecycle.IdleNow, "idle", tx.Now().Add(-time.Minute))
			case w.Phase == lifecycle.Ready && r.IntN(3) == 0:
				err = tx.ClearCondition(ctx, w, lifecycle.IdleNow)
			default:
				to := next[r.IntN(len(next))]
				for n < 450 && to == lifecycle.Removing { // most of the time nothing is removed
					to = next[r.IntN(len(next))]
				}
				err = tx.SetPhase(ctx, &w, to, whoMay(w.Phase, to), "")
			}
			if err == nil && undo {
				return errUndo
			}
			return err
		})
		if err != nil && !errors.Is(err, errUndo) {
			t.Fatal(err)
		}
	}
	stored, computed, err := s.Read().Remeter(ctx)
	if err != nil || len(stored) < 30 || !reflect.DeepEqual(stored, computed) {
		t.Errorf("stored are %d intervals, the journal comes to %d: %v", len(stored), len(computed), err)
	}
	if err := s.Read().VerifyJournal(ctx); err != nil {
		t.Error(err)
	}
	totalsHold(t, s, prices, time.Date(2026, 11, 3, 0, 0, 0, 0, time.UTC))
	// Prebuilds are nobody's: a person's view has none of their time.
	all, err1 := s.Read().Intervals(ctx, Scope{}, time.Time{}, time.Now())
	own, err2 := s.Read().Intervals(ctx, Scope{OwnerID: "p1"}, time.Time{}, time.Now())
	team, err3 := s.Read().Intervals(ctx, Scope{Teams: []string{"t1"}}, time.Time{}, time.Now())
	other, err4 := s.Read().Intervals(ctx, Scope{OwnerID: "p3"}, time.Time{}, time.Now())
	if err1 != nil || err2 != nil || err3 != nil || err4 != nil || len(own) == 0 || len(own) >= len(all) || len(team) != len(own) || len(other) != 0 {
		t.Errorf("of %d intervals ingrid sees %d, her team %d, mats %d: %v %v %v %v", len(all), len(own), len(team), len(other), err1, err2, err3, err4)
	}
}

var errUndo = fmt.Errorf("undo it")
