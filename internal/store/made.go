package store

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"time"

	"bivium/core/document"
)

// Made is how a revision came about.
type Made struct {
	At    time.Time
	Actor string
	What  string // "edit", which alone can be taken back; else what brought it: "read", "routers", "map tags"
	// What it changed, as it was and as it is; in Before alone is what went, in After alone
	// what came.
	Before, After []document.Object
}

// MadeBy returns the step that made a revision, ErrNotFound if none did: the estate was
// put as a whole then. Cost: what it changed.
func (s *Store) MadeBy(ctx context.Context, revision int64) (*Made, error) {
	out := &Made{What: Edit}
	var at string
	err := s.inTransaction(ctx, func(tx *sql.Tx) error {
		err := tx.QueryRowContext(ctx, `
			SELECT at, actor, what FROM revision WHERE number = ?1`, revision).Scan(&at, &out.Actor, &out.What)
		if errors.Is(err, sql.ErrNoRows) {
			return ErrNotFound
		}
		if err != nil {
			return err
		}
		if out.At, err = time.Parse(time.RFC3339, at); err != nil {
			return err
		}
		return out.changed(ctx, tx, revision)
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

func (x *Made) changed(ctx context.Context, tx *sql.Tx, revision int64) error {
	rows, err := tx.QueryContext(ctx, `
		SELECT list, name, was, before, after FROM step WHERE revision = ?1 ORDER BY list, name`, revision)
	if err != nil {
		return err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	for rows.Next() {
		var o document.Object
		var was string
		var before, after []byte
		if err := rows.Scan(&o.List, &o.Key, &was, &before, &after); err != nil {
			return err
		}
		if before != nil {
			x.Before = append(x.Before, document.Object{List: o.List, Key: cmp.Or(was, o.Key), Body: before})
		}
		if after != nil {
			x.After = append(x.After, document.Object{List: o.List, Key: o.Key, Body: after})
		}
	}
	return rows.Err()
}
