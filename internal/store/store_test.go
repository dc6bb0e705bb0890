package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
)

// anEntry is an entry of any kind.
type anEntry struct {
	kind string
	I    int `json:"i"`
}

func (e anEntry) Kind() string { return e.kind }

// blank lays empty records at a path: see the package of that name.
var blank func(t testing.TB, path string)

func Blank(put func(t testing.TB, path string)) { blank = put }

func open(t *testing.T, path string, now func() time.Time) *Store {
	t.Helper()
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		blank(t, path)
	}
	s, err := Open(t.Context(), path, now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func fill(t *testing.T, s *Store) Workspace {
	t.Helper()
	ctx := t.Context()
	w := Workspace{ID: "w1", OwnerID: "p1", Name: "tide", RepositoryID: "r1", Branch: "main", Phase: lifecycle.Waiting, Wanted: lifecycle.WantReady, Body: 1, Volume: 1,
		StewardToken: []byte{1}, Plan: &Plan{Commit: "c", Fingerprint: "f", Definition: definition.Definition{Folder: "/workspaces/tide", Ports: []int{1}}}}
	err := s.Write(ctx, func(tx *Tx) error {
		if err := tx.AddPerson(ctx, Person{ID: "p1", Name: "ingrid", Role: "developer"}); err != nil {
			return err
		}
		if err := tx.AddRepository(ctx, Repository{ID: "r1", Name: "tide-board", URL: "http://x/y", DefaultBranch: "main"}); err != nil {
			return err
		}
		return tx.AddWorkspace(ctx, &w)
	})
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// Many writers at once: each is answered for itself, a failing one undoes
// only what it did, and the journal is one unbroken chain.
func TestWritesAreGroupedAndApart(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	s := open(t, path, time.Now)
	told := 0
	s.OnJournal(func() { told++ })
	ctx := t.Context()
	refuse := errors.New("refused")
	var wg sync.WaitGroup
	for i := range 300 {
		wg.Go(func() {
			err := s.Write(ctx, func(tx *Tx) error {
				if err := tx.SetMeta(ctx, fmt.Sprint("k", i), "v"); err != nil {
					return err
				}
				if err := tx.Journal(ctx, fmt.Sprint(i), "p", "p", anEntry{"test", i}); err != nil {
					return err
				}
				if i%10 == 3 {
					return refuse
				}
				if i%10 == 7 {
					panic("oops")
				}
				return nil
			})
			if want := i%10 == 3 || i%10 == 7; (err != nil) != want || (i%10 == 3 && !errors.Is(err, refuse)) {
				t.Errorf("write %d is answered %v", i, err)
			}
		})
	}
	wg.Wait()
	if v, err := s.Read().Meta(ctx, "k13"); err != nil || v != "" {
		t.Errorf("a refused write left %q, %v", v, err)
	}
	if v, err := s.Read().Meta(ctx, "k14"); err != nil || v != "v" {
		t.Errorf("an answered write left %q, %v", v, err)
	}
	if head, err := s.Read().JournalHead(ctx); err != nil || head != 240 {
		t.Errorf("the journal has %d entries, %v", head, err)
	}
	if told == 0 || told > 240 {
		t.Errorf("%d times the journal was said to have grown", told)
	}
	if err := s.Read().VerifyJournal(ctx); err != nil {
		t.Error(err)
	}
	gone, cancel := context.WithCancel(ctx)
	cancel()
	if err := s.Write(gone, func(*Tx) error { return nil }); !errors.Is(err, context.Canceled) {
		t.Errorf("a write whose asker is gone is answered %v", err)
	}
}

// Every way of writing over the journal is either refused or found.
func TestAChangedJournalShows(t *testing.T) {
	for name, change := range map[string]string{
		"body":      "UPDATE journal SET body = CAST(replace(CAST(body AS TEXT), 'k3', 'k4') AS BLOB) WHERE number = 3",
		"column":    "UPDATE journal SET owner_id = 'other' WHERE number = 3",
		"cut out":   "DELETE FROM journal WHERE number = 3",
		"head gone": "DELETE FROM journal WHERE number = 1",
		"rehashed":  "UPDATE journal SET body = x'7b7d', hash = x'00' WHERE number = 5",
	} {
		t.Run(name, func(t *testing.T) {
			s := open(t, filepath.Join(t.TempDir(), "a.db"), time.Now)
			ctx := t.Context()
			for i := range 5 {
				if err := s.Write(ctx, func(tx *Tx) error { return tx.Journal(ctx, fmt.Sprint("k", i+1), "p", "p", anEntry{kind: "test"}) }); err != nil {
					t.Fatal(err)
				}
			}
			if _, err := s.conn.ExecContext(t.Context(), change); err == nil || !strings.Contains(err.Error(), "append-only") {
				t.Errorf("it is not refused: %v", err)
			}
			if _, err := s.conn.ExecContext(t.Context(), "DROP TRIGGER journal_no_update; DROP TRIGGER journal_no_delete"); err != nil {
				t.Fatal(err)
			}
			if err := s.Read().VerifyJournal(ctx); err != nil {
				t.Fatal(err)
			}
			if _, err := s.conn.ExecContext(t.Context(), change); err != nil {
				t.Fatal(err)
			}
			if s.Read().VerifyJournal(ctx) == nil {
				t.Error("it is not found")
			}
		})
	}
}

// The clock may jump back; the journal's times do not. What was written is
// there after a reopening, to the microsecond.
func TestTimesAndReopening(t *testing.T) {
	path := filepath.Join(t.TempDir(), "with space & %41.db")
	clock := time.Date(2026, 3, 2, 8, 0, 0, 123456789, time.UTC)
	s := open(t, path, func() time.Time { return clock })
	w := fill(t, s)
	ctx := t.Context()
	for range 2 {
		if err := s.Write(ctx, func(tx *Tx) error { return tx.Journal(ctx, "x", "p", "p", anEntry{kind: "test"}) }); err != nil {
			t.Fatal(err)
		}
		clock = clock.Add(-time.Hour)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = open(t, path, time.Now)
	entries, err := s.Read().JournalAfter(ctx, 0, "", "", 10)
	if err != nil || len(entries) != 2 || !entries[1].At.Equal(entries[0].At) {
		t.Errorf("the journal is %+v, %v", entries, err)
	}
	got, err := s.Read().WorkspaceByName(ctx, "p1", "tide")
	if err != nil || got.Plan.Definition.Folder != "/workspaces/tide" || !got.CreatedAt.Equal(w.CreatedAt) || got.NextPlan != nil {
		t.Errorf("the workspace is %+v, %v", got, err)
	}
}

// whoMay is somebody who may make a move, if anybody may.
func whoMay(from, to lifecycle.Phase) string {
	if lifecycle.MayBy(from, to, true) {
		return "p1"
	}
	return "service"
}

// Only moves of the table are written; a removed workspace's name is free again.
func TestPhasesAndNames(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"), time.Now)
	w := fill(t, s)
	ctx := t.Context()
	move := func(to lifecycle.Phase) error {
		return s.Write(ctx, func(tx *Tx) error { return tx.SetPhase(ctx, &w, to, whoMay(w.Phase, to), "") })
	}
	if err := move(lifecycle.Stopped); err == nil {
		t.Error("from waiting to stopped at once is written")
	}
	second := w
	second.ID, second.Name = "w2", "second"
	add := func(w *Workspace) error { return s.Write(ctx, func(tx *Tx) error { return tx.AddWorkspace(ctx, w) }) }
	if err := add(&second); err != nil {
		t.Errorf("a second workspace: %v", err)
	}
	again := w
	again.ID = "w3"
	if err := add(&again); !IsDuplicate(err) {
		t.Errorf("the same name again is answered %v", err)
	}
	for _, p := range []lifecycle.Phase{lifecycle.Removing, lifecycle.Removed} {
		if err := move(p); err != nil {
			t.Fatal(err)
		}
	}
	if err := add(&again); err != nil {
		t.Errorf("after the removal the name is answered %v", err)
	}
	used, err := s.Read().ImageInUse(ctx, "f", "w3")
	if err != nil || !used {
		t.Errorf("an image that another workspace uses: %v, %v", used, err)
	}
}

// A step that begins again is the same line with its attempts counted; a
// second sheet interrupts the first.
func TestLaunchSheets(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"), time.Now)
	w := fill(t, s)
	ctx := t.Context()
	write := func(do func(tx *Tx) error) {
		t.Helper()
		if err := s.Write(ctx, do); err != nil {
			t.Fatal(err)
		}
	}
	var first Sheet
	write(func(tx *Tx) (err error) { first, err = tx.OpenSheet(ctx, w.ID, lifecycle.LaunchSheet); return err })
	for range 2 {
		write(func(tx *Tx) error {
			_, err := tx.BeginStep(ctx, Step{SheetID: first.ID, Key: "set-up/postCreateCommand", Title: "x", Body: 1})
			return err
		})
	}
	steps, err := s.Read().Steps(ctx, first.ID)
	if err != nil || len(steps) != 1 || steps[0].Attempt != 2 || steps[0].EndedAt != nil {
		t.Fatalf("the steps are %+v, %v", steps, err)
	}
	if ended, _, err := s.Read().EndedSetUp(ctx, w.ID, 1); err != nil || len(ended) != 0 {
		t.Errorf("a step under way counts as ended: %v, %v", ended, err)
	}
	write(func(tx *Tx) (err error) { _, err = tx.OpenSheet(ctx, w.ID, lifecycle.StopSheet); return err })
	ended, failed, err := s.Read().EndedSetUp(ctx, w.ID, 1)
	if err != nil || !ended[definition.PostCreate] || !failed {
		t.Errorf("a step cut off by another request: %v, %v, %v", ended, failed, err)
	}
	if other, _, _ := s.Read().EndedSetUp(ctx, w.ID, 2); len(other) != 0 {
		t.Errorf("another body's set-up counts: %v", other)
	}
	sheets, err := s.Read().Sheets(ctx, w.ID)
	if err != nil || len(sheets) != 2 || sheets[0].Number != 2 || sheets[1].Outcome != lifecycle.Interrupted {
		t.Errorf("the sheets are %+v, %v", sheets, err)
	}
}

// Records of a newer release are refused as they are; older ones are copied
// before they are changed.
func TestRecordsOfOtherReleases(t *testing.T) {
	ctx := t.Context()
	path := filepath.Join(t.TempDir(), "a.db")
	s := open(t, path, time.Now)
	var newest int64
	if err := s.conn.QueryRowContext(ctx, "SELECT MAX(version_id) FROM goose_db_version").Scan(&newest); err != nil {
		t.Fatal(err)
	}
	if _, err := s.conn.ExecContext(ctx, "INSERT INTO goose_db_version (version_id, is_applied) VALUES (?, 1)", newest+1); err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	before, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Open(ctx, path, time.Now); err == nil || !strings.Contains(err.Error(), "a newer release has written them") {
		t.Errorf("records of a newer release: %v", err)
	}
	if after, err := os.ReadFile(path); err != nil || !bytes.Equal(before, after) {
		t.Errorf("records of a newer release are changed, %v", err)
	}
}

// The records are for their owner alone, and what lies beside them.
func TestTheFilesMode(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.db")
	if err := os.WriteFile(path, nil, 0o644); err != nil { // as it was made once
		t.Fatal(err)
	}
	s, err := Open(t.Context(), path, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := s.Write(t.Context(), func(tx *Tx) error { return tx.AddTeam(t.Context(), Team{ID: "t", Name: "Harbour"}) }); err != nil {
		t.Fatal(err)
	}
	files, err := os.ReadDir(dir)
	if err != nil || len(files) < 2 {
		t.Fatal(files, err)
	}
	for _, f := range files {
		if i, err := f.Info(); err != nil || i.Mode().Perm() != 0o600 {
			t.Errorf("%s is %v, %v", f.Name(), i.Mode(), err)
		}
	}
}
