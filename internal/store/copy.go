package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"

	"modernc.org/sqlite"
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

// CopyPages copies the records at a path as they are at one moment, page by page
// (https://sqlite.org/c3ref/backup_finish.html): what their write-ahead log has since
// stands on this copy too. Nothing may be at to, and nothing is there for sure after a loss
// of power: it is to be copied on.
func CopyPages(ctx context.Context, path, to string) error {
	db, err := aside(path)
	if err != nil {
		return err
	}
	defer db.Close()
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	f, err := os.OpenFile(to, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	err = conn.Raw(func(driver any) error {
		source, ok := driver.(interface {
			NewBackup(to string) (*sqlite.Backup, error)
		})
		if !ok {
			return errors.New("this driver of SQLite makes no copies")
		}
		b, err := source.NewBackup("file:" + (&url.URL{Path: to}).EscapedPath() + "?_pragma=synchronous(OFF)&_pragma=journal_mode(OFF)")
		if err != nil {
			return err
		}
		_, err = b.Step(-1)
		return errors.Join(err, b.Finish())
	})
	return errors.Join(err, f.Close())
}

// Follow has the records' write-ahead log left to whoever follows it, from now on: none
// of it is brought into the database by itself, only by [Store.Checkpoint]. It gives the
// log's path.
func (s *Store) Follow(ctx context.Context) (log string, err error) {
	return s.path + "-wal", s.await(request{ctx: ctx, end: make(chan error, 1), between: func(ctx context.Context, on *sql.Conn) error {
		_, err := on.ExecContext(ctx, "PRAGMA wal_autocheckpoint = 0")
		if err == nil { // the file is as large as what is in it, not as it ever was
			_, err = on.ExecContext(ctx, "PRAGMA journal_size_limit = 0")
		}
		return err
	}})
}

// Checkpoint brings what the write-ahead log has into the database, as far as no reader
// needs it as it was; the log begins anew then. Nothing is written meanwhile, and before
// is called first.
func (s *Store) Checkpoint(ctx context.Context, before func() error) error {
	return s.await(request{ctx: ctx, end: make(chan error, 1), between: func(ctx context.Context, on *sql.Conn) error {
		if err := before(); err != nil {
			return err
		}
		_, err := on.ExecContext(ctx, "PRAGMA wal_checkpoint(PASSIVE)")
		return err
	}})
}

// Path is where the records are.
func (s *Store) Path() string { return s.path }

// Apply brings a write-ahead log that stands beside a copy of [CopyPages], which nobody
// uses, into it.
func Apply(ctx context.Context, records string) error {
	db, err := aside(records)
	if err != nil {
		return err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	var n, busy, held, brought int64
	err = db.QueryRowContext(ctx, "SELECT COUNT(*) FROM sqlite_schema").Scan(&n) // which reads the log
	if err == nil {
		err = db.QueryRowContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)").Scan(&busy, &held, &brought)
	}
	if err == nil && busy != 0 {
		err = fmt.Errorf("%s is in use", records)
	}
	return err
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
