package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"
)

// begins is how a SQLite database begins.
const begins = "SQLite format 3\x00"

// checkFile makes a database file that nobody else may read, or looks whether the one there
// is a database that can be written.
func checkFile(file string) error {
	_, err := os.Stat(file)
	fresh := errors.Is(err, os.ErrNotExist)
	f, err := os.OpenFile(file, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return fmt.Errorf("it cannot be written: %w; check the permissions of the file and its folder", err)
	}
	defer f.Close() //nolint:errcheck // nothing was written
	if fresh {
		return nil
	}
	if err := f.Chmod(0o600); err != nil {
		return err
	}
	head := make([]byte, len(begins))
	n, _ := f.Read(head)
	switch {
	case n == 0:
		return errors.New("it is empty; restore a backup, or remove it to start with a new database")
	case string(head[:n]) != begins[:n]:
		return errors.New("it is not a Bivium database; choose another file with --db")
	}
	return nil
}

// check looks whether the pages of the database are whole.
func (s *Store) check(ctx context.Context) error {
	rows, err := s.db.QueryContext(ctx, `PRAGMA quick_check(5)`)
	if err != nil {
		return err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
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
	if err := rows.Err(); err != nil {
		return err
	}
	if len(wrong) > 0 {
		return fmt.Errorf("%w. SQLite says: %s", ErrDamaged, strings.Join(wrong, "; "))
	}
	return nil
}

// ErrNoRoom is returned when the disk is full.
var ErrNoRoom = errors.New("the disk is full: nothing was stored; free some space and try again")

// ErrReadOnly is returned when the database cannot be written.
var ErrReadOnly = errors.New("the database cannot be written: nothing was stored; check the permissions of the file and its folder")

// ErrDamaged is returned when pages of the database cannot be read.
var ErrDamaged = errors.New("the database is damaged; restore a backup")

// plain returns an error that says plainly what is wrong with the database file, where
// SQLite only has a number for it.
func plain(err error) error {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return err
	}
	switch e.Code() & 0xff {
	case lib.SQLITE_FULL:
		return errors.Join(ErrNoRoom, err)
	case lib.SQLITE_READONLY, lib.SQLITE_CANTOPEN:
		return errors.Join(ErrReadOnly, err)
	case lib.SQLITE_CORRUPT, lib.SQLITE_NOTADB:
		return errors.Join(ErrDamaged, err)
	}
	return err
}
