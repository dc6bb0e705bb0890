package backup

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/durable"
	"yardbench/internal/store"
	"yardbench/internal/vault"
)

// Found is what a check of a backup found.
type Found struct {
	Manifest
	Workspaces int `json:"workspaces"` // that are not removed
	People     int `json:"people"`
	// Opened counts sealed values that the keys opened, all that there are; none were
	// tried where the keys are not there.
	Opened int `json:"opened"`
	// Ended counts sign-ins and links that were ended as it was put back, and Hold tokens
	// of programs and keys for SSH that hold on, also those that were ended since.
	Ended int64 `json:"ended,omitempty"`
	Hold  int64 `json:"hold,omitempty"`
}

// Keys says by what sealed values are to be opened.
type Keys struct {
	Passphrase string // of the backup's own
	Folder     string // else they are kept there
	// Guard is the key service that guards them; nil is none.
	Guard vault.Guard
}

func (k Keys) given() bool { return k.Passphrase != "" || k.Folder != "" }

// Verify checks a backup: each file against the manifest, the records by SQLite's own
// check, the journal's chain, and where keys are given that they open every sealed
// value. Records of an older form are brought to this release's on a copy.
func Verify(ctx context.Context, folder string, keys Keys) (f Found, err error) {
	if f.Manifest, err = read(ctx, folder); err != nil {
		return f, err
	}
	scratch, err := os.MkdirTemp("", "yardbench-verify-")
	if err != nil {
		return f, err
	}
	defer os.RemoveAll(scratch)
	return f, f.check(ctx, folder, scratch, keys)
}

// check lays records and keys into a data directory, and looks through them there.
func (f *Found) check(ctx context.Context, folder, dir string, keys Keys) error {
	if keys.Passphrase != "" && !f.Keys {
		return errors.New("the keys are not in this backup: say where they are kept, with --keys")
	}
	records := filepath.Join(dir, databaseFile)
	if err := copyFile(filepath.Join(folder, recordsFile), records); err != nil {
		return err
	}
	st, err := store.Open(ctx, records, time.Now)
	if err != nil {
		return err
	}
	defer st.Close()
	if err := st.Sound(ctx); err != nil {
		return fmt.Errorf("the records are damaged: %w", err)
	}
	q := st.Read()
	if err := q.VerifyJournal(ctx); err != nil {
		return fmt.Errorf("the journal: %w", err)
	}
	all, err := q.Workspaces(ctx)
	if err != nil {
		return err
	}
	f.Workspaces = len(all)
	people, err := q.People(ctx, store.Scope{})
	if f.People = len(people); err != nil {
		return err
	}
	if !keys.given() {
		return nil
	}
	to := filepath.Join(dir, keysFolder)
	if keys.Passphrase != "" {
		err = openKeys(filepath.Join(folder, keysFile), to, keys.Passphrase)
	} else if err = os.MkdirAll(to, 0o700); err == nil {
		err = copyFolder(ctx, keys.Folder, to)
	}
	if err != nil {
		return err
	}
	sealing := filepath.Join(to, "sealing.json")
	if _, err := os.Stat(sealing); err != nil { // opening would make a fresh one
		return fmt.Errorf("the key that secrets are sealed with is not there: %w", err)
	}
	v, err := vault.Open(sealing, keys.Guard)
	if err != nil {
		return err
	}
	f.Opened, err = opens(ctx, q, v)
	return err
}

// secure ends what may have ended since, and has the journal say that it was put back.
func (f *Found) secure(ctx context.Context, records string) error {
	st, err := store.Open(ctx, records, time.Now)
	if err != nil {
		return err
	}
	err = st.Write(ctx, func(tx *store.Tx) (err error) {
		if f.Ended, f.Hold, err = tx.Restored(ctx); err != nil {
			return err
		}
		return tx.Journal(ctx, "", "", "service", journal.RecordsRestored{Ended: f.Ended, MadeAt: f.MadeAt})
	})
	return errors.Join(err, st.Close())
}

// opens opens every sealed value, and counts them.
func opens(ctx context.Context, q store.Q, v *vault.Vault) (n int, err error) {
	for _, column := range store.SealedColumns {
		for row := int64(0); ; {
			some, err := q.SealedAfter(ctx, column, row, 50)
			if err != nil {
				return n, err
			}
			for _, s := range some {
				row = s.Row
				if len(s.Sealed) == 0 {
					continue
				}
				if _, err := v.Open(s.Sealed, s.Where...); err != nil {
					return n, fmt.Errorf("the keys are not those of this backup: what is sealed in %s does not open", column.Table)
				}
				n++
			}
			if len(some) == 0 {
				break
			}
		}
	}
	return n, nil
}

// Restore puts a backup into a data directory that is not there yet, or is empty, once
// all of [Verify] was found to hold of it. The directory appears whole or not at all.
func Restore(ctx context.Context, folder, dir string, keys Keys) (f Found, err error) {
	entries, err := os.ReadDir(dir)
	switch {
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return f, err
	case len(entries) > 0:
		return f, fmt.Errorf("%s is not empty: a backup is put into a directory of its own, and takes no other records' place", dir)
	case !keys.given():
		return f, errors.New("without the keys nothing that is sealed opens: give the passphrase, or say where the keys are kept, with --keys")
	}
	if f.Manifest, err = read(ctx, folder); err != nil {
		return f, err
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o700); err != nil {
		return f, err
	}
	partial, err := unfinished(dir, time.Now())
	if err != nil {
		return f, err
	}
	defer os.RemoveAll(partial) // nothing is there any more once it has its name
	if err := f.check(ctx, folder, partial, keys); err != nil {
		return f, err
	}
	if err := f.secure(ctx, filepath.Join(partial, databaseFile)); err != nil {
		return f, err
	}
	for _, part := range folders {
		if err := copyFolder(ctx, filepath.Join(folder, part), filepath.Join(partial, part)); err != nil {
			return f, err
		}
	}
	if err := os.Remove(dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return f, err
	}
	if err := os.Rename(partial, dir); err != nil {
		return f, err
	}
	return f, durable.Folder(filepath.Dir(dir))
}
