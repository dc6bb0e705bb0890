package store

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

// grouped writes all of do in as few groups as the writer makes of them, and
// gives what each was answered.
func grouped(t *testing.T, s *Store, do []func(*Tx) error) []error {
	t.Helper()
	ctx := t.Context()
	begun, goOn := make(chan bool), make(chan bool)
	var wg sync.WaitGroup
	wg.Go(func() {
		_ = s.Write(ctx, func(*Tx) error { begun <- true; <-goOn; return nil })
	})
	<-begun
	answers := make([]error, len(do))
	for i, f := range do {
		wg.Go(func() { answers[i] = s.Write(ctx, f) })
		for len(s.queue) < i+1 { // in their order
			time.Sleep(time.Millisecond)
		}
	}
	close(goOn)
	wg.Wait()
	return answers
}

// entry writes a value and a journal entry; large is how much more it writes.
func entry(ctx context.Context, i, large int) func(*Tx) error {
	return func(tx *Tx) error {
		if err := tx.SetMeta(ctx, fmt.Sprint("k", i), "v"); err != nil {
			return err
		}
		if err := tx.Journal(ctx, fmt.Sprint("s", i), "p", "p", anEntry{"test", i}); err != nil {
			return err
		}
		if large > 0 {
			return tx.SetMeta(ctx, fmt.Sprint("large", i), strings.Repeat("x", large))
		}
		return nil
	}
}

// holds holds what was answered against what is there: all of what was said to
// be done, nothing of what was said not to be, and one unbroken journal.
func holds(t *testing.T, s *Store, answers []error) {
	t.Helper()
	ctx := t.Context()
	subjects := map[string]int{}
	all, err := s.Read().Journal(ctx, JournalFilter{Limit: 10_000})
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range all {
		subjects[e.Subject]++
	}
	for i, err := range answers {
		v, rerr := s.Read().Meta(ctx, fmt.Sprint("k", i))
		if rerr != nil || (v == "v") != (err == nil) || (subjects[fmt.Sprint("s", i)] == 1) != (err == nil) {
			t.Errorf("request %d was answered %v; its value is %q, and the journal has it %d times", i, err, v, subjects[fmt.Sprint("s", i)])
		}
	}
	if err := s.Read().VerifyJournal(ctx); err != nil {
		t.Error(err)
	}
}

func pages(t *testing.T, s *Store, most int64) {
	t.Helper()
	var n int64
	if err := s.conn.QueryRowContext(t.Context(), "PRAGMA page_count").Scan(&n); err != nil {
		t.Fatal(err)
	}
	if err := s.conn.QueryRowContext(t.Context(), fmt.Sprintf("PRAGMA max_page_count = %d", n+most)).Scan(&n); err != nil {
		t.Fatal(err)
	}
}

// SQLite ends the whole transaction when the disk is full in the middle of a
// group. Nobody of the group is told what is not so.
func TestAFullDiskInsideAGroup(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"), time.Now)
	ctx := t.Context()
	if err := s.Write(ctx, func(tx *Tx) error { return tx.Journal(ctx, "first", "p", "p", anEntry{kind: "test"}) }); err != nil {
		t.Fatal(err)
	}
	pages(t, s, 64)
	var do []func(*Tx) error
	for i := range 30 {
		large := 0
		if i == 10 || i == 11 || i == 25 {
			large = 4 << 20 // beyond the page cache, and beyond what there is room for
		}
		do = append(do, entry(ctx, i, large))
	}
	do = append(do, func(tx *Tx) error { // passes over the failure, and writes on
		_ = tx.SetMeta(ctx, "large", strings.Repeat("x", 4<<20))
		return entry(ctx, 30, 0)(tx)
	})
	answers := grouped(t, s, do)
	holds(t, s, answers)
	for i, err := range answers {
		if full := i == 10 || i == 11 || i == 25 || i == 30; (err != nil) != full || full && !errors.Is(err, ErrFull) {
			t.Errorf("request %d is answered %v", i, err)
		}
	}
	pages(t, s, 1<<20)
	if err := s.Write(ctx, entry(ctx, 99, 4<<20)); err != nil {
		t.Errorf("with room again: %v", err)
	}
	if _, full := s.FullSince(); full {
		t.Error("the disk is said to be full, and is not")
	}
	if err := s.Read().VerifyJournal(ctx); err != nil {
		t.Error(err)
	}
}

// The same with a fault at any statement of any request, of one kind that ends
// the transaction, many times over.
func TestAFaultAtAnyStatementOfAGroup(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"), time.Now)
	ctx := t.Context()
	broken := errors.New("disk I/O error")
	statements, at := 0, -1
	s.Hook(Hooks{Statement: func() error {
		if statements++; statements == at {
			return broken
		}
		return nil
	}})
	rng := rand.New(rand.NewPCG(1, 2))
	var do []func(*Tx) error
	for i := range 400 {
		do = append(do, entry(ctx, i, 0))
	}
	var answers []error
	failed := 0
	for len(answers) < len(do) {
		n := min(1+rng.IntN(12), len(do)-len(answers))
		statements, at = 0, 5+rng.IntN(6*n) // the first four are of who holds the writer up
		answers = append(answers, grouped(t, s, do[len(answers):len(answers)+n])...)
	}
	for _, err := range answers {
		if err != nil {
			failed++
			if !errors.Is(err, broken) {
				t.Errorf("answered %v", err)
			}
		}
	}
	holds(t, s, answers)
	// Somebody alone meets his fault himself; in a group it does not come again.
	if failed == 0 || failed > 40 {
		t.Errorf("%d of %d failed", failed, len(do))
	}
}

// What the cache keeps is forgotten by whatever changes it.
func TestTheCacheFollows(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"), time.Now)
	ctx := t.Context()
	w := fill(t, s)
	read := func() string {
		q := s.Read()
		rules, _ := q.Rules(ctx)
		byName, _ := q.RepositoryByName(ctx, "tide-board")
		byID, _ := q.RepositoryByID(ctx, "r1")
		other, _ := q.RepositoryByName(ctx, "deck-log")
		runs, _ := q.GoodRuns(ctx, "r1", "main")
		credential, _ := q.GitCredential(ctx, "p1", "git.skerryline.example")
		return fmt.Sprint(rules.Version, byName.PushKey, byID.PushKey, other.ID, len(runs), credential.Username)
	}
	run := PrebuildRun{ID: "run", PlanID: "plan", WorkspaceID: w.ID}
	for _, change := range []struct {
		what string
		do   func(*Tx) error
		same bool
	}{
		{"a version of the rules", func(tx *Tx) error { _, err := tx.AddRules(ctx, RulesVersion{Document: "x"}); return err }, false},
		{"a repository", func(tx *Tx) error { return tx.AddRepository(ctx, Repository{ID: "r2", Name: "deck-log"}) }, false},
		{"a push key", func(tx *Tx) error { return tx.SetPushKey(ctx, "r1", []byte("k")) }, false},
		{"a credential", func(tx *Tx) error {
			return tx.PutGitCredential(ctx, Sealed{PersonID: "p1", Name: "git.skerryline.example", Username: "ingrid", Sealed: []byte{1}})
		}, false},
		{"a plan and a run", func(tx *Tx) error {
			if err := tx.PutPrebuildPlan(ctx, PrebuildPlan{ID: "plan", RepositoryID: "r1", Branch: "main", MadeBy: "p1"}); err != nil {
				return err
			}
			return tx.AddRun(ctx, &run)
		}, true},
		{"the end of a run", func(tx *Tx) error { return tx.EndRun(ctx, "run", Kept{Image: "image"}, "done", "") }, false},
		{"a run that is dropped", func(tx *Tx) error { return tx.DropRun(ctx, "run") }, false},
		{"a person who is erased", func(tx *Tx) error { return tx.ErasePerson(ctx, "p1", "gone") }, false},
	} {
		before := read()
		if err := s.Write(ctx, func(tx *Tx) error {
			if err := change.do(tx); err != nil {
				return err
			}
			if read() != before { // by a reader, in the middle
				t.Errorf("%s is seen before it is committed", change.what)
			}
			return nil
		}); err != nil {
			t.Fatalf("%s: %v", change.what, err)
		}
		if after := read(); (after == before) != change.same {
			t.Errorf("%s: %s, then %s", change.what, before, after)
		}
	}
}
