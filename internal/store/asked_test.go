package store

import (
	"bytes"
	"context"
	"errors"
	"path/filepath"
	"testing"
	"time"

	"yardbench/internal/core/journal"
)

// What was asked with a key stands together with what came of it, or neither does.
func TestOnce(t *testing.T) {
	now := time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC)
	s := open(t, filepath.Join(t.TempDir(), "a.db"), func() time.Time { return now })
	ctx := t.Context()
	asked := Asked{PersonID: "p1", Key: "k", What: []byte("a team")}
	add := func(ctx context.Context, id string, fails error) error {
		return s.Write(ctx, func(tx *Tx) error {
			if err := tx.AddTeam(ctx, Team{ID: id, Name: id}); err != nil {
				return err
			}
			if err := tx.Journal(ctx, id, "", "p1", journal.TeamAdded{Name: id}); err != nil {
				return err
			}
			if err := tx.Journal(ctx, "another", "", "p1", journal.TeamAdded{Name: id}); err != nil {
				return err
			}
			return fails
		})
	}
	once := Once(ctx, asked)
	broken := errors.New("broken")
	if err := add(once, "t0", broken); !errors.Is(err, broken) {
		t.Fatal(err)
	}
	if _, err := s.Read().AskedWith(ctx, "p1", "k", now); !errors.Is(err, ErrNotFound) {
		t.Errorf("of what failed it is known that it was asked: %v", err)
	}
	if err := add(once, "t1", nil); err != nil { // the same context: what failed counts for nothing
		t.Fatal(err)
	}
	if err := add(once, "t2", nil); err != nil { // a second write of the same request notes nothing
		t.Fatal(err)
	}
	got, err := s.Read().AskedWith(ctx, "p1", "k", now)
	if err != nil || got.Subject != "t1" || string(got.What) != "a team" || got.Answer != nil || !got.At.Equal(now) {
		t.Errorf("it is known as %+v, %v", got, err)
	}
	if err := add(Once(ctx, asked), "t3", nil); !IsDuplicate(err) {
		t.Errorf("another with the same key: %v", err)
	}
	if teams, _ := s.Read().Teams(ctx); len(teams) != 2 {
		t.Errorf("the teams are %+v", teams)
	}
	if err := s.Write(ctx, func(tx *Tx) error { return tx.Answered(ctx, "p1", "k", []byte("sealed")) }); err != nil {
		t.Fatal(err)
	}
	if got, err = s.Read().AskedWith(ctx, "p1", "k", now); err != nil || !bytes.Equal(got.Answer, []byte("sealed")) {
		t.Errorf("answered it is %+v, %v", got, err)
	}
	if _, err := s.Read().AskedWith(ctx, "p2", "k", now); !errors.Is(err, ErrNotFound) {
		t.Errorf("another person's key: %v", err)
	}
	if _, err := s.Read().AskedWith(ctx, "p1", "k", now.Add(AskedKept)); err != nil {
		t.Errorf("after a day: %v", err)
	}
	if _, err := s.Read().AskedWith(ctx, "p1", "k", now.Add(AskedKept+time.Second)); !errors.Is(err, ErrNotFound) {
		t.Errorf("after a day and a second: %v", err)
	}
	now = now.Add(AskedKept + time.Second)
	if err := add(Once(ctx, Asked{PersonID: "p2", Key: "k2", What: []byte("x")}), "t4", nil); err != nil {
		t.Fatal(err)
	}
	var rows int
	if err := s.written.on.QueryRowContext(ctx, "SELECT COUNT(*) FROM asked").Scan(&rows); err != nil || rows != 1 {
		t.Errorf("%d are kept, %v", rows, err)
	}
}
