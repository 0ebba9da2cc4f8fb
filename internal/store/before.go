package store

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"maps"
	"slices"

	"bivium/core/document"
	"bivium/core/estate"
)

// Before returns the estate as it was before the last edit, if that made the
// revision; ErrNotFound if a reading or routers made it, or nothing is known of it. former
// are the names that things have by now which had others then.
func (s *Store) Before(ctx context.Context, revision int64) (e *estate.Estate, former map[estate.Ref]string, err error) {
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
		former = map[estate.Ref]string{}
		for p, was := range changed {
			if was.name != "" {
				former[estate.Ref{Kind: document.KindOf(p.list), Name: was.name}] = p.key
			}
		}
		objects, err := objectsOf(ctx, tx)
		if err != nil {
			return err
		}
		e, err = document.Join(name, description, putBack(objects, changed))
		return err
	})
	return e, former, err
}

// ObjectAt returns a thing as it was at a revision, by the name that it has now: ErrNotFound
// if it has not been changed since, no body if it was not there.
func (s *Store) ObjectAt(ctx context.Context, list, name string, revision int64) (body []byte, err error) {
	err = s.db.QueryRowContext(ctx, `
		SELECT before FROM step WHERE object = (SELECT id FROM object WHERE list = ?1 AND name = ?2) AND revision > ?3 ORDER BY revision LIMIT 1`, list, name, revision).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNotFound
	}
	return body, err
}

type place struct{ list, key string }

// earlier is what a thing was before an edit: its name, where that was another, and its body,
// nil for one that was not there.
type earlier struct {
	name string
	body []byte
}

// undone returns what each thing was that an edit changed.
func undone(ctx context.Context, tx *sql.Tx, revision int64) (map[place]earlier, error) {
	rows, err := tx.QueryContext(ctx, `
		SELECT list, name, was, before FROM step JOIN revision ON number = step.revision WHERE step.revision = ?1 AND what = 'edit'`, revision)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	out := map[place]earlier{}
	for rows.Next() {
		var p place
		var e earlier
		if err := rows.Scan(&p.list, &p.key, &e.name, &e.body); err != nil {
			return nil, err
		}
		out[p] = e
	}
	return out, rows.Err()
}

// putBack returns objects as they were before a change. What had gone comes last in its list.
func putBack(objects []document.Object, changed map[place]earlier) []document.Object {
	var out []document.Object
	for _, o := range objects {
		p := place{o.List, o.Key}
		before, touched := changed[p]
		delete(changed, p)
		if touched {
			o.Key, o.Body = cmp.Or(before.name, o.Key), before.body
		}
		if o.Body != nil {
			out = append(out, o)
		}
	}
	gone := slices.SortedFunc(maps.Keys(changed), func(a, b place) int { return cmp.Or(cmp.Compare(a.list, b.list), cmp.Compare(a.key, b.key)) })
	for _, p := range gone {
		if changed[p].body == nil { // it came and went since
			continue
		}
		out = append(out, document.Object{List: p.list, Key: p.key, Body: changed[p].body})
	}
	return out
}
