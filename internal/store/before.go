package store

import (
	"cmp"
	"context"
	"database/sql"
	"math"
	"slices"

	"bivium/core/document"
	"bivium/core/estate"
)

// Before returns the estate as it was before the last edit, if that made the
// revision; ErrNotFound if a reading or routers made it, or nothing is known of it.
func (s *Store) Before(ctx context.Context, revision int64) (e *estate.Estate, err error) {
	err = s.inTransaction(ctx, func(tx *sql.Tx) error {
		var name, description string
		var current int64
		if err := tx.QueryRowContext(ctx, `SELECT name, description, revision FROM estate WHERE id = 1`).Scan(&name, &description, &current); err != nil {
			return err
		}
		if current != revision {
			return &StaleError{revision, current}
		}
		changed, err := undone(ctx, tx, revision)
		if err != nil {
			return err
		}
		if len(changed) == 0 {
			return ErrNotFound
		}
		objects, err := objectsOf(ctx, tx)
		if err != nil {
			return err
		}
		e, err = document.Join(name, description, putBack(objects, changed))
		return err
	})
	return e, err
}

type place struct{ list, key string }

// undone returns what each thing was that an edit changed; nil for one that was
// not there.
func undone(ctx context.Context, tx *sql.Tx, revision int64) (map[place][]byte, error) {
	rows, err := tx.QueryContext(ctx, `
		SELECT list, key, before FROM step JOIN revision ON number = step.revision WHERE step.revision = ?1 AND what = 'edit'`, revision)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	out := map[place][]byte{}
	for rows.Next() {
		var p place
		var before []byte
		if err := rows.Scan(&p.list, &p.key, &before); err != nil {
			return nil, err
		}
		out[p] = before
	}
	return out, rows.Err()
}

// putBack returns objects as they were before a change. What had gone comes last
// in its list, or, of things that are known by their place, at its place.
func putBack(objects []document.Object, changed map[place][]byte) []document.Object {
	var out []document.Object
	for _, o := range objects {
		p := place{o.List, o.Key}
		before, touched := changed[p]
		delete(changed, p)
		switch {
		case !touched:
			out = append(out, o)
		case before != nil:
			o.Body = before
			out = append(out, o)
		}
	}
	rank := map[place]int{}
	for i, o := range out {
		rank[place{o.List, o.Key}] = i
	}
	for p, before := range changed {
		rank[p] = math.MaxInt
		out = append(out, document.Object{List: p.list, Key: p.key, Body: before})
	}
	slices.SortFunc(out, func(a, b document.Object) int {
		if a.List != b.List {
			return cmp.Compare(a.List, b.List)
		}
		if document.Nameless(a.List) {
			return cmp.Compare(a.Key, b.Key)
		}
		return cmp.Or(cmp.Compare(rank[place{a.List, a.Key}], rank[place{b.List, b.Key}]), cmp.Compare(a.Key, b.Key))
	})
	return out
}
