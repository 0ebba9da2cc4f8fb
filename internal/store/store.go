// Package store keeps an estate in SQLite. Nothing else knows SQL.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"

	"github.com/gofrs/flock"
	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver "sqlite"

	"bivium/core/document"
	"bivium/core/estate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrEmpty is returned when the database contains no estate yet.
var ErrEmpty = errors.New("the database contains no estate")

// ErrNotFound is returned for an object that the estate does not have.
var ErrNotFound = errors.New("there is no such object")

// StaleError is returned for an edit of a revision that is no longer the
// current one: somebody else was quicker.
type StaleError struct{ Based, Current int64 }

// Error says which revision the edit was based on, and which is current.
func (e *StaleError) Error() string {
	return fmt.Sprintf("the edit is based on revision %d, and revision %d is current", e.Based, e.Current)
}

// Store is an open database. It is safe for concurrent use; SQLite has one
// writer at a time, and the others wait.
type Store struct {
	db   *sql.DB
	lock *flock.Flock
}

// Open opens the database in a file, makes it if it is missing, and brings its
// tables up to date. One process at a time has it open.
func Open(ctx context.Context, file string) (*Store, error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, fmt.Errorf("open the database: %w", err)
	}
	lock := flock.New(file+".lock", flock.SetPermissions(0o600))
	if held, err := lock.TryLock(); err != nil || !held {
		if err == nil {
			err = fmt.Errorf("another server is using it; stop that server, or choose another file with --db")
		}
		return nil, fmt.Errorf("open the database %s: %w", file, err)
	}
	s, err := open(ctx, file, lock)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("open the database %s: %w", file, err), lock.Unlock())
	}
	return s, nil
}

func open(ctx context.Context, file string, lock *flock.Flock) (*Store, error) {
	if err := checkFile(file); err != nil {
		return nil, err
	}
	query := url.Values{"_txlock": {"immediate"}, "_pragma": {"journal_mode(WAL)", "foreign_keys(1)", "busy_timeout(5000)", "synchronous(FULL)"}}
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: file}).EscapedPath()+"?"+query.Encode())
	if err != nil {
		return nil, err
	}
	s := &Store{db, lock}
	if err = s.check(ctx); err == nil {
		err = s.migrate(ctx)
	}
	if err != nil {
		return nil, errors.Join(plain(err), db.Close())
	}
	return s, nil
}

func (s *Store) migrate(ctx context.Context) error {
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, s.db, dir, goose.WithGoMigrations(lastingIDs()))
	if err != nil {
		return err
	}
	has, knows, err := provider.GetVersions(ctx)
	if err != nil {
		return err
	}
	if has > knows {
		return fmt.Errorf("it was written by a newer version of Bivium (schema %d; this version supports %d); use that version", has, knows)
	}
	_, err = provider.Up(ctx)
	return err
}

// Close closes the database.
func (s *Store) Close() error { return errors.Join(s.db.Close(), s.lock.Unlock()) }

// inTransaction runs f, and keeps what it did unless it fails.
func (s *Store) inTransaction(ctx context.Context, f func(*sql.Tx) error) (err error) {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return plain(err)
	}
	defer func() {
		if value := recover(); value != nil {
			_ = tx.Rollback() // the panic says more
			panic(value)
		}
	}()
	if err := f(tx); err != nil {
		return errors.Join(plain(err), tx.Rollback())
	}
	return plain(tx.Commit())
}

// Put stores an estate in place of the one there, if any, as a new revision.
func (s *Store) Put(ctx context.Context, e *estate.Estate) error {
	return s.inTransaction(ctx, func(tx *sql.Tx) error {
		revision, err := revisionOf(ctx, tx)
		if err != nil && !errors.Is(err, ErrEmpty) {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM estate`); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO estate (id, name, description, revision) VALUES (1, ?, ?, ?)`, e.Name, e.Description, revision+1); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM object`); err != nil {
			return err
		}
		insert, err := tx.PrepareContext(ctx, `INSERT INTO object (list, name, position, body) VALUES (?, ?, ?, ?)`)
		if err != nil {
			return err
		}
		defer insert.Close()       //nolint:errcheck // the transaction ends it in any case
		places := map[string]int{} // by list: how many it has
		for _, o := range document.Split(e) {
			place := places[o.List]
			places[o.List]++
			if _, err := insert.ExecContext(ctx, o.List, o.Key, place, o.Body); err != nil {
				return fmt.Errorf("store %s %s: %w", o.List, o.Key, err)
			}
		}
		return nil
	})
}

// revisionOf returns the current revision, or ErrEmpty.
func revisionOf(ctx context.Context, tx *sql.Tx) (revision int64, err error) {
	err = tx.QueryRowContext(ctx, `SELECT revision FROM estate WHERE id = 1`).Scan(&revision)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, ErrEmpty
	}
	return revision, err
}

// Revision returns the current revision, or ErrEmpty.
func (s *Store) Revision(ctx context.Context) (revision int64, err error) {
	err = s.inTransaction(ctx, func(tx *sql.Tx) error {
		revision, err = revisionOf(ctx, tx)
		return err
	})
	return revision, err
}

// Get returns the estate and its revision, or ErrEmpty. Objects that cannot be read are
// left out of it, and returned beside it.
func (s *Store) Get(ctx context.Context) (e *estate.Estate, revision int64, aside []document.Aside, err error) {
	err = s.inTransaction(ctx, func(tx *sql.Tx) error {
		if revision, err = revisionOf(ctx, tx); err != nil {
			return err
		}
		var name, description string
		if err := tx.QueryRowContext(ctx, `SELECT name, description FROM estate WHERE id = 1`).Scan(&name, &description); err != nil {
			return err
		}
		objects, err := objectsOf(ctx, tx)
		if err != nil {
			return err
		}
		e, aside, err = document.JoinReadable(name, description, objects)
		return err
	})
	return e, revision, aside, err
}

func objectsOf(ctx context.Context, tx *sql.Tx) ([]document.Object, error) {
	rows, err := tx.QueryContext(ctx, `SELECT list, name, body FROM object ORDER BY position`)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var objects []document.Object
	for rows.Next() {
		var o document.Object
		if err := rows.Scan(&o.List, &o.Key, &o.Body); err != nil {
			return nil, err
		}
		objects = append(objects, o)
	}
	return objects, rows.Err()
}
