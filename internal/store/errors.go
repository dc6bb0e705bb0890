package store

import (
	"errors"
	"fmt"
	"strings"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// ErrNotFound says that a row does not exist.
var ErrNotFound = errors.New("not found")

// ErrBusy says that the writer's queue is full.
var ErrBusy = errors.New("the service has more to write than it can: try again in a moment")

// ErrFull says that the disk with the records is full.
var ErrFull = errors.New("the service's disk is full: nothing can be written")

// ErrClosed says that the service is ending.
var ErrClosed = errors.New("the service is ending")

// code is SQLite's code of an error; 0 where it has none.
func code(err error) int {
	var e *sqlite.Error
	if errors.As(err, &e) {
		return e.Code()
	}
	return 0
}

// translate says what an error of SQLite means to who asked.
func translate(err error) error {
	if err == nil || errors.Is(err, ErrFull) {
		return err
	}
	switch c := code(err); {
	case c&0xff == sqlite3.SQLITE_FULL, c == sqlite3.SQLITE_IOERR_SHMSIZE:
		return fmt.Errorf("%w: %w", ErrFull, err)
	}
	return err
}

// endsTransaction tells whether SQLite may have rolled the whole transaction
// back by itself (sqlite.org/lang_transaction.html, "Response To Errors Within
// A Transaction").
func endsTransaction(err error) bool {
	switch code(err) & 0xff {
	case sqlite3.SQLITE_FULL, sqlite3.SQLITE_IOERR, sqlite3.SQLITE_NOMEM, sqlite3.SQLITE_BUSY, sqlite3.SQLITE_INTERRUPT, sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_ABORT:
		return true
	}
	return false
}

// IsDuplicate tells whether err comes from a row that exists already.
func IsDuplicate(err error) bool { return duplicateOf(err, "") }

// duplicateOf tells whether err comes from a row that has a value of the column
// already. The column is not in the error's code; its text names it, as
// TABLE.COLUMN, and that is part of SQLite's interface.
func duplicateOf(err error, column string) bool {
	switch code(err) {
	case sqlite3.SQLITE_CONSTRAINT_UNIQUE, sqlite3.SQLITE_CONSTRAINT_PRIMARYKEY, sqlite3.SQLITE_CONSTRAINT_ROWID:
		return column == "" || strings.Contains(err.Error(), column)
	}
	return false
}
