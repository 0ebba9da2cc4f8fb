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
	"time"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver "sqlite"

	"bivium/core/document"
	"bivium/core/estate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrEmpty is returned when the database holds no estate yet.
var ErrEmpty = errors.New("the database holds no estate")

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
type Store struct{ db *sql.DB }

// Open opens the database in a file, makes it if it is missing, and brings its
// tables up to date.
func Open(ctx context.Context, file string) (*Store, error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, fmt.Errorf("open the database: %w", err)
	}
	query := url.Values{"_txlock": {"immediate"}, "_pragma": {"journal_mode(WAL)", "foreign_keys(1)", "busy_timeout(5000)", "synchronous(FULL)"}}
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: file}).EscapedPath()+"?"+query.Encode())
	if err != nil {
		return nil, fmt.Errorf("open the database: %w", err)
	}
	s := &Store{db}
	if err := s.migrate(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("open the database %s: %w", file, err), db.Close())
	}
	return s, nil
}

func (s *Store) migrate(ctx context.Context) error {
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, s.db, dir)
	if err != nil {
		return err
	}
	_, err = provider.Up(ctx)
	return err
}

// Close closes the database.
func (s *Store) Close() error { return s.db.Close() }

// inTransaction runs f, and keeps what it did unless it fails.
func (s *Store) inTransaction(ctx context.Context, f func(*sql.Tx) error) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if err := f(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

// Put stores an estate in place of the one there, if any, as a new revision.
func (s *Store) Put(ctx context.Context, e *estate.Estate) error {
	return s.inTransaction(ctx, func(tx *sql.Tx) error {
		var revision int64
		err := tx.QueryRowContext(ctx, `SELECT revision FROM estate WHERE id = 1`).Scan(&revision)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM estate`); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO estate (id, name, description, revision) VALUES (1, ?, ?, ?)`, e.Name, e.Description, revision+1); err != nil {
			return err
		}
		insert, err := tx.PrepareContext(ctx, `INSERT INTO object (estate, list, key, position, body) VALUES (1, ?, ?, ?, ?)`)
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

// Get returns the estate and its revision, or ErrEmpty.
func (s *Store) Get(ctx context.Context) (e *estate.Estate, revision int64, err error) {
	err = s.inTransaction(ctx, func(tx *sql.Tx) error {
		var name, description string
		err := tx.QueryRowContext(ctx, `SELECT name, description, revision FROM estate WHERE id = 1`).Scan(&name, &description, &revision)
		if errors.Is(err, sql.ErrNoRows) {
			return ErrEmpty
		}
		if err != nil {
			return err
		}
		objects, err := objectsOf(ctx, tx)
		if err != nil {
			return err
		}
		e, err = document.Join(name, description, objects)
		return err
	})
	return e, revision, err
}

func objectsOf(ctx context.Context, tx *sql.Tx) ([]document.Object, error) {
	rows, err := tx.QueryContext(ctx, `SELECT list, key, body FROM object WHERE estate = 1 ORDER BY position`)
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

// Replace stores one object in place of the one of its list and key, if the
// estate is still at revision based, and returns the revision that this makes.
// The edit goes into the history with what was there before.
func (s *Store) Replace(ctx context.Context, o document.Object, based int64, actor string, at time.Time) (int64, error) {
	err := s.inTransaction(ctx, func(tx *sql.Tx) error {
		var current int64
		if err := tx.QueryRowContext(ctx, `SELECT revision FROM estate WHERE id = 1`).Scan(&current); err != nil {
			return err
		}
		if current != based {
			return &StaleError{based, current}
		}
		var before []byte
		err := tx.QueryRowContext(ctx, `SELECT body FROM object WHERE estate = 1 AND list = ? AND key = ?`, o.List, o.Key).Scan(&before)
		if errors.Is(err, sql.ErrNoRows) {
			return fmt.Errorf("%s %s: %w", o.List, o.Key, ErrNotFound)
		}
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE object SET body = ? WHERE estate = 1 AND list = ? AND key = ?`, o.Body, o.List, o.Key); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE estate SET revision = ? WHERE id = 1`, based+1); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO edit (revision, at, actor, list, key, before, after) VALUES (?, ?, ?, ?, ?, ?, ?)`,
			based+1, at.UTC().Format(time.RFC3339), actor, o.List, o.Key, before, o.Body)
		return err
	})
	if err != nil {
		return 0, err
	}
	return based + 1, nil
}
