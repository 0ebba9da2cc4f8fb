package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"bivium/core/document"
	"bivium/core/inventory"
)

// Edit is the What of a revision that a person made.
const Edit = "edit"

// Revision is one step of the estate from what it was to what it is.
type Revision struct {
	What              string // what brought it: Edit, or a word for what else did
	Name, Description string // of the estate, from now on
	Edit              []byte // as it was asked for, with its bases, as JSON; nil where it was no edit
	Note              []byte // what is known of it beside what it changed, as JSON; nil for nothing
	Changes           []document.Change
	Based             int64 // the revision that it comes after
	Actor             string
	At                time.Time
	Known             []inventory.Known // of all accounts; nil where it did not change
	Reading           *Reading
	Repaired          int64 // the number of a thing that was set aside, and is no longer; 0 for none

	ids map[*document.Change]int64 // of the things that changed
}

// Change stores a revision, and returns its number. Nothing is stored if the estate is no
// longer at Based, which gives a StaleError.
func (s *Store) Change(ctx context.Context, r *Revision) (int64, error) {
	err := s.inTransaction(ctx, func(tx *sql.Tx) error {
		current, err := revisionOf(ctx, tx)
		if err != nil {
			return err
		}
		if current != r.Based {
			return &StaleError{r.Based, current}
		}
		if err := r.begin(ctx, tx); err != nil {
			return err
		}
		if err := r.put(ctx, tx); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE estate SET revision = ?, name = ?, description = ? WHERE id = 1`, r.Based+1, r.Name, r.Description); err != nil {
			return err
		}
		return errors.Join(putKnown(ctx, tx, r.Known), r.end(ctx, tx), r.repair(ctx, tx))
	})
	if err != nil {
		return 0, err
	}
	return r.Based + 1, nil
}

func (r *Revision) begin(ctx context.Context, tx *sql.Tx) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO revision (number, at, actor, what, edit, note) VALUES (?, ?, ?, ?, ?, ?)`, r.Based+1, stamp(r.At), r.Actor, r.What, r.Edit, r.Note)
	return err
}

// put stores what changed, and logs it. A thing that has another name now keeps its id: those
// let go of their names first, for one that came or another may have taken it.
func (r *Revision) put(ctx context.Context, tx *sql.Tx) error {
	log, err := tx.PrepareContext(ctx, `INSERT INTO step (revision, object, list, name, was, before, after) VALUES (?, ?, ?, ?, ?, ?, ?)`)
	if err != nil {
		return err
	}
	defer log.Close() //nolint:errcheck // the transaction ends it in any case
	for _, query := range []struct {
		concerns func(*document.Change) bool
		do       string
		args     func(*document.Change) []any
	}{
		{func(c *document.Change) bool { return c.Was != "" }, `UPDATE object SET name = '#' || id WHERE list = ?1 AND name = ?2 RETURNING id`,
			func(c *document.Change) []any { return []any{c.List, c.Was} }},
		{func(c *document.Change) bool { return c.After == nil }, `DELETE FROM object WHERE list = ?1 AND name = ?2 RETURNING id`,
			func(c *document.Change) []any { return []any{c.List, c.Key} }},
		{func(c *document.Change) bool { return c.Was != "" }, `UPDATE object SET name = ?1, position = ?2, body = ?3 WHERE name = '#' || ?4 RETURNING id`,
			func(c *document.Change) []any { return []any{c.Key, c.Place, c.After, r.ids[c]} }},
		{func(c *document.Change) bool { return c.After != nil && c.Was == "" }, `INSERT INTO object (list, name, position, body) VALUES (?1, ?2, ?3, ?4)
			ON CONFLICT (list, name) DO UPDATE SET body = excluded.body, position = excluded.position RETURNING id`,
			func(c *document.Change) []any { return []any{c.List, c.Key, c.Place, c.After} }},
	} {
		if err := r.each(ctx, tx, query.concerns, query.do, query.args); err != nil {
			return err
		}
	}
	for i := range r.Changes {
		c := &r.Changes[i]
		if c.Moved() {
			continue
		}
		if _, err := log.ExecContext(ctx, r.Based+1, r.ids[c], c.List, c.Key, c.Was, c.Before, c.After); err != nil {
			return err
		}
	}
	return nil
}

// each runs a statement for those changes that it concerns, and notes the ids of their things.
func (r *Revision) each(ctx context.Context, tx *sql.Tx, concerns func(*document.Change) bool, query string, args func(*document.Change) []any) error {
	var do *sql.Stmt
	for i := range r.Changes {
		c := &r.Changes[i]
		if !concerns(c) {
			continue
		}
		if do == nil {
			var err error
			if do, err = tx.PrepareContext(ctx, query); err != nil {
				return err
			}
			defer do.Close() //nolint:errcheck // the transaction ends it in any case
		}
		var id int64
		if err := do.QueryRowContext(ctx, args(c)...).Scan(&id); err != nil {
			return fmt.Errorf("store %s %s: %w", c.List, c.Key, err)
		}
		if r.ids == nil {
			r.ids = map[*document.Change]int64{}
		}
		r.ids[c] = id
	}
	return nil
}

func (r *Revision) end(ctx context.Context, tx *sql.Tx) error {
	if r.Reading == nil {
		return nil
	}
	r.Reading.Revision = r.Based + 1
	return endReading(ctx, tx, r.Reading)
}

// putKnown stores what is known of all accounts, in place of what was.
func putKnown(ctx context.Context, tx *sql.Tx, known []inventory.Known) error {
	if known == nil {
		return nil
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM known`); err != nil {
		return err
	}
	put, err := tx.PrepareContext(ctx, `INSERT INTO known (account, kind, id, body) VALUES (?, ?, ?, ?)`)
	if err != nil {
		return err
	}
	defer put.Close() //nolint:errcheck // the transaction ends it in any case
	for i := range known {
		body, err := json.Marshal(&known[i])
		if err != nil {
			return err
		}
		if _, err := put.ExecContext(ctx, known[i].Account, known[i].Kind, known[i].ID, body); err != nil {
			return err
		}
	}
	return nil
}

// Inventory returns what is known of all accounts.
func (s *Store) Inventory(ctx context.Context) ([]inventory.Known, error) {
	known, err := bodies[inventory.Known](ctx, s.db, `SELECT body FROM known ORDER BY account, kind, id`)
	if err != nil {
		return nil, fmt.Errorf("load what is known of accounts: %w", err)
	}
	return known, nil
}

func bodies[T any](ctx context.Context, db *sql.DB, query string, args ...any) ([]T, error) {
	rows, err := db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []T
	for rows.Next() {
		var body []byte
		if err := rows.Scan(&body); err != nil {
			return nil, err
		}
		var t T
		if err := json.Unmarshal(body, &t); err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, rows.Err()
}

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339) }
