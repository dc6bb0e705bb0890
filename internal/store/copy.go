package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"
)

// Copy copies the records at a path as they are at one moment, whoever writes to them
// meanwhile (VACUUM INTO, https://sqlite.org/lang_vacuum.html#vacuuminto). Nothing may
// be at to. The copy is on disk when it returns, for its owner alone.
func Copy(ctx context.Context, path, to string) error {
	db, err := aside(path)
	if err != nil {
		return err
	}
	defer db.Close()
	return copyInto(ctx, db, to)
}

// aside opens a database that another may be using, and changes nothing of it.
func aside(path string) (*sql.DB, error) {
	return sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?mode=rw&_pragma=busy_timeout(10000)")
}

func copyInto(ctx context.Context, db *sql.DB, to string) error {
	if _, err := os.Lstat(to); err == nil {
		return fmt.Errorf("%s is there already", to)
	}
	f, err := os.OpenFile(to, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600) // an empty file is what SQLite takes, too
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, "VACUUM INTO ?", to)
	return errors.Join(err, f.Sync(), f.Close())
}

// Known reads of records that nobody uses which form they are in, and whose they are.
func Known(ctx context.Context, path string) (form int64, installation string, err error) {
	db, err := aside(path)
	if err != nil {
		return 0, "", err
	}
	defer db.Close()
	err = db.QueryRowContext(ctx, "SELECT COALESCE((SELECT MAX(version_id) FROM goose_db_version), 0), COALESCE((SELECT value FROM meta WHERE key = 'installation'), '')").Scan(&form, &installation)
	return form, installation, err
}

// Sound has SQLite look through the whole database, and says what is wrong with it.
func (s *Store) Sound(ctx context.Context) error {
	rows, err := s.readers.QueryContext(ctx, "PRAGMA integrity_check(10)")
	if err != nil {
		return err
	}
	defer rows.Close()
	var wrong []string
	for rows.Next() {
		var line string
		if err := rows.Scan(&line); err != nil {
			return err
		}
		if line != "ok" {
			wrong = append(wrong, line)
		}
	}
	if len(wrong) > 0 {
		return errors.New(strings.Join(wrong, "; "))
	}
	return rows.Err()
}

// Restored ends what may have ended since the records were copied, and would let people
// in again: sign-ins of the console and the command line, enrolment links, look links. It
// gives how many there were, and how many tokens of programs and keys for SSH hold on.
func (tx *txn) Restored(ctx context.Context) (ended, hold int64, err error) {
	tx.touchAll()
	tx.cached()
	for _, q := range []string{"DELETE FROM tokens WHERE door IN ('console', 'cli')", "DELETE FROM enrolments", "DELETE FROM look_links WHERE TRUE"} {
		res, err := tx.db.ExecContext(ctx, q)
		if err != nil {
			return 0, 0, err
		}
		n, err := res.RowsAffected()
		if ended += n; err != nil {
			return 0, 0, err
		}
	}
	err = tx.db.QueryRowContext(ctx, "SELECT COUNT(*) FROM tokens WHERE expires_at > ?", micros(tx.now)).Scan(&hold)
	return ended, hold, err
}
