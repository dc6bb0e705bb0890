package serve

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/store"
	"yardbench/internal/store/blank"
)

// Keys that are lost or changed are said at the start, and nothing is written.
func TestKeysGoWithTheirRecords(t *testing.T) {
	ctx := t.Context()
	type ground struct {
		st  *store.Store
		dir string
	}
	fresh := func() ground {
		return ground{dir: t.TempDir(), st: blank.Open(t, filepath.Join(t.TempDir(), "a.db"), time.Now)}
	}
	open := func(g ground) error { _, _, err := openKeys(ctx, g.st, g.dir, ""); return err }
	other := fresh()
	if err := open(other); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		what   string
		change func(g ground) error
		says   string
	}{
		{"nothing", func(ground) error { return nil }, ""},
		{"no sealing key", func(g ground) error { return os.Remove(filepath.Join(g.dir, "sealing.json")) }, "sealing.json, that the secrets in the records were sealed with, is missing"},
		{"no journal key", func(g ground) error { return os.Remove(filepath.Join(g.dir, "journal.pem")) }, "journal.pem, that the heads of the journal are signed with, is missing"},
		{"no keys", func(g ground) error { return os.RemoveAll(g.dir) }, "is missing"},
		{"another sealing key", func(g ground) error {
			return os.Rename(filepath.Join(other.dir, "sealing.json"), filepath.Join(g.dir, "sealing.json"))
		}, "is not the one that the secrets in the records were sealed with"},
		{"another journal key", func(g ground) error {
			return os.Rename(filepath.Join(other.dir, "journal.pem"), filepath.Join(g.dir, "journal.pem"))
		}, "is not the one that the heads of this journal were signed with"},
	} {
		g := fresh()
		if err := open(g); err != nil {
			t.Fatal(err)
		}
		if err := c.change(g); err != nil {
			t.Fatal(err)
		}
		before, _ := os.ReadDir(g.dir)
		err := open(g)
		if after, _ := os.ReadDir(g.dir); (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) || len(after) != len(before) {
			t.Errorf("%s: %v; there were %v, there are %v", c.what, err, before, after)
		}
	}

	// Records of before keys were known are held against what they hold.
	g := fresh()
	if err := open(g); err != nil {
		t.Fatal(err)
	}
	err := g.st.Write(ctx, func(tx *store.Tx) error {
		for _, key := range []string{metaSealed, metaJournalKey} {
			if err := tx.SetMeta(ctx, key, ""); err != nil {
				return err
			}
		}
		if err := tx.AddPerson(ctx, store.Person{ID: "p", Name: "ingrid", Role: "developer"}); err != nil {
			return err
		}
		if err := tx.AddRepository(ctx, store.Repository{ID: "r", Name: "tide-board"}); err != nil {
			return err
		}
		if err := tx.Journal(ctx, "p", "p", "p", journal.SignedOut{}); err != nil {
			return err
		}
		return tx.AddWorkspace(ctx, &store.Workspace{ID: "w", OwnerID: "p", RepositoryID: "r", Name: "w", Phase: lifecycle.Ready, StewardToken: []byte("of another key")})
	})
	if err != nil {
		t.Fatal(err)
	}
	if err := open(g); err == nil || !strings.Contains(err.Error(), "is not the one that the secrets") {
		t.Errorf("a key that opens nothing is taken: %v", err)
	}
	if err := os.RemoveAll(g.dir); err != nil {
		t.Fatal(err)
	}
	if err := open(g); err == nil || !strings.Contains(err.Error(), "is missing") {
		t.Errorf("lost keys of old records are made anew: %v", err)
	}
}
