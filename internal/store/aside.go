package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"bivium/core/document"
	"bivium/core/estate"
)

// Aside is a thing that could not be read when the database was opened.
type Aside struct {
	ID        int64
	List, Key string
	Body      []byte
	Why       string
	At        time.Time
}

// SetAside takes things that cannot be read out of the estate, and keeps them as they are
// for somebody to repair. It makes a revision; e is the estate without them.
func (s *Store) SetAside(ctx context.Context, things []document.Aside, e *estate.Estate, at time.Time) error {
	return s.inTransaction(ctx, func(tx *sql.Tx) error {
		based, err := revisionOf(ctx, tx)
		if err != nil {
			return err
		}
		r := &Revision{What: "set aside", Name: e.Name, Description: e.Description, Based: based, Actor: "bivium", At: at}
		if err := r.begin(ctx, tx); err != nil {
			return err
		}
		for i := range things {
			o := &things[i]
			if _, err := tx.ExecContext(ctx, `INSERT INTO aside (list, key, body, why, at) VALUES (?, ?, ?, ?, ?)`, o.List, o.Key, o.Body, o.Errors.Error(), stamp(at)); err != nil {
				return err
			}
			r.Changes = append(r.Changes, document.Change{List: o.List, Key: o.Key, Before: o.Body})
		}
		if err := r.put(ctx, tx); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE estate SET revision = ? WHERE id = 1`, based+1)
		return err
	})
}

// Asides returns the things that were set aside, the first ones first.
func (s *Store) Asides(ctx context.Context) ([]Aside, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, list, key, body, why, at FROM aside ORDER BY id`)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []Aside
	for rows.Next() {
		var a Aside
		var at string
		if err := rows.Scan(&a.ID, &a.List, &a.Key, &a.Body, &a.Why, &at); err != nil {
			return nil, err
		}
		if a.At, err = time.Parse(time.RFC3339, at); err != nil {
			return nil, err
		}
		out = append(out, a)
	}
	return out, rows.Err()
}

// DropAside removes a thing that was set aside for good.
func (s *Store) DropAside(ctx context.Context, id int64) error {
	return s.inTransaction(ctx, func(tx *sql.Tx) error { return dropAside(ctx, tx, id) })
}

func dropAside(ctx context.Context, tx *sql.Tx, id int64) error {
	done, err := tx.ExecContext(ctx, `DELETE FROM aside WHERE id = ?`, id)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, fmt.Errorf("thing %d that was set aside: %w", id, ErrNotFound))
	}
	return nil
}

// repair drops the thing that a revision repairs.
func (r *Revision) repair(ctx context.Context, tx *sql.Tx) error {
	if r.Repaired == 0 {
		return nil
	}
	return dropAside(ctx, tx, r.Repaired)
}
