package store

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/inventory"
)

// Revision is one step of the estate from what it was to what it is.
type Revision struct {
	Routers       bool // it comes of what routers announced
	Before, After *estate.Estate
	Based         int64 // the revision that Before is
	Actor         string
	At            time.Time
	Known         []inventory.Known // of all accounts; nil where it did not change
	Mapping       []inventory.Mapping
	Remap         bool // Mapping takes the place of the one there
	Reading       *Reading
}

// Change stores what is different in a revision, and returns its number. Nothing
// is stored if the estate is no longer at Based, which gives a StaleError.
func (s *Store) Change(ctx context.Context, r *Revision) (int64, error) {
	type stored struct {
		body  []byte
		place int
	}
	before := map[[2]string]stored{}
	places := map[string]int{}
	for _, o := range document.SplitBut(r.Before, r.After) {
		before[[2]string{o.List, o.Key}] = stored{o.Body, places[o.List]}
		places[o.List]++
	}
	err := s.inTransaction(ctx, func(tx *sql.Tx) error {
		var current int64
		if err := tx.QueryRowContext(ctx, `SELECT revision FROM estate WHERE id = 1`).Scan(&current); err != nil {
			return err
		}
		if current != r.Based {
			return &StaleError{r.Based, current}
		}
		put, err := tx.PrepareContext(ctx, `INSERT INTO object (estate, list, key, position, body) VALUES (1, ?, ?, ?, ?)
			ON CONFLICT (estate, list, key) DO UPDATE SET body = excluded.body, position = excluded.position`)
		if err != nil {
			return err
		}
		defer put.Close() //nolint:errcheck // the transaction ends it in any case
		log, err := tx.PrepareContext(ctx, `INSERT INTO step (revision, list, key, before, after) VALUES (?, ?, ?, ?, ?)`)
		if err != nil {
			return err
		}
		defer log.Close() //nolint:errcheck // likewise
		if _, err := tx.ExecContext(ctx, `INSERT INTO revision (number, at, actor, what) VALUES (?, ?, ?, ?)`, r.Based+1, stamp(r.At), r.Actor, r.what()); err != nil {
			return err
		}
		places := map[string]int{}
		for _, o := range document.SplitBut(r.After, r.Before) {
			key := [2]string{o.List, o.Key}
			was, there := before[key]
			delete(before, key)
			place := places[o.List]
			places[o.List]++
			same := there && bytes.Equal(was.body, o.Body)
			if same && was.place == place {
				continue
			}
			if _, err := put.ExecContext(ctx, o.List, o.Key, place, o.Body); err != nil {
				return fmt.Errorf("store %s %s: %w", o.List, o.Key, err)
			}
			if same {
				continue
			}
			if _, err := log.ExecContext(ctx, r.Based+1, o.List, o.Key, was.body, o.Body); err != nil {
				return err
			}
		}
		for key, was := range before {
			if _, err := tx.ExecContext(ctx, `DELETE FROM object WHERE estate = 1 AND list = ? AND key = ?`, key[0], key[1]); err != nil {
				return err
			}
			if _, err := log.ExecContext(ctx, r.Based+1, key[0], key[1], was.body, nil); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `UPDATE estate SET revision = ?, name = ?, description = ? WHERE id = 1`, r.Based+1, r.After.Name, r.After.Description); err != nil {
			return err
		}
		return errors.Join(putKnown(ctx, tx, r.Known), r.remap(ctx, tx), r.end(ctx, tx))
	})
	if err != nil {
		return 0, err
	}
	return r.Based + 1, nil
}

func (r *Revision) what() string {
	switch {
	case r.Reading != nil:
		return "read " + r.Reading.Account
	case r.Remap:
		return "map tags"
	}
	if r.Routers {
		return "routers"
	}
	return Edit
}

func (r *Revision) remap(ctx context.Context, tx *sql.Tx) error {
	if !r.Remap {
		return nil
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM mapping`); err != nil {
		return err
	}
	for i, m := range r.Mapping {
		body, err := json.Marshal(m)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO mapping (position, body) VALUES (?, ?)`, i, body); err != nil {
			return err
		}
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

// Inventory returns what is known of all accounts, and the mapping of tags.
func (s *Store) Inventory(ctx context.Context) (known []inventory.Known, mapping []inventory.Mapping, err error) {
	known, err = bodies[inventory.Known](ctx, s.db, `SELECT body FROM known ORDER BY account, kind, id`)
	if err != nil {
		return nil, nil, fmt.Errorf("load what is known of accounts: %w", err)
	}
	mapping, err = bodies[inventory.Mapping](ctx, s.db, `SELECT body FROM mapping ORDER BY position`)
	if err != nil {
		return nil, nil, fmt.Errorf("load the mapping of tags: %w", err)
	}
	return known, mapping, nil
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
