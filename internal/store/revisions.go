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

// RevisionRow is one revision in the history.
type RevisionRow struct {
	Number      int64
	At          time.Time
	Actor, What string
	Note        []byte // JSON; nil for none
	Edit        []byte // JSON; nil for none
	Changes     int    // things that changed
	Reviewed    string // who reviewed it later, where it was applied in an emergency
}

const revisionColumns = `number, revision.at, actor, what, note, edit, (SELECT count(*) FROM step WHERE step.revision = number), coalesce(later_review.person, '')
	FROM revision LEFT JOIN later_review ON later_review.revision = number`

// Revisions returns the last revisions before a number, the newest first; people's alone,
// where those of syncs and routers are not wanted.
func (s *Store) Revisions(ctx context.Context, before int64, all bool, most int) ([]RevisionRow, error) {
	return s.revisionRows(ctx, `SELECT `+revisionColumns+` WHERE number < ? AND (? OR what = 'edit') ORDER BY number DESC LIMIT ?`, before, all, most)
}

// RevisionOf returns one revision; ErrNotFound if nothing is known of it.
func (s *Store) RevisionOf(ctx context.Context, number int64) (*RevisionRow, error) {
	rows, err := s.revisionRows(ctx, `SELECT `+revisionColumns+` WHERE number = ?`, number)
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, ErrNotFound
	}
	return &rows[0], nil
}

// Unreviewed returns the revisions that were applied in an emergency and not reviewed since, the
// newest first.
func (s *Store) Unreviewed(ctx context.Context) ([]RevisionRow, error) {
	return s.revisionRows(ctx, `SELECT `+revisionColumns+` WHERE json_extract(note, '$.emergency') <> '' AND later_review.person IS NULL ORDER BY number DESC`)
}

func (s *Store) revisionRows(ctx context.Context, query string, args ...any) ([]RevisionRow, error) {
	rows, err := s.db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []RevisionRow
	for rows.Next() {
		var r RevisionRow
		var at string
		if err := rows.Scan(&r.Number, &at, &r.Actor, &r.What, &r.Note, &r.Edit, &r.Changes, &r.Reviewed); err != nil {
			return nil, err
		}
		r.At = when(at)
		out = append(out, r)
	}
	return out, rows.Err()
}

// ReviewLater notes who reviewed a revision that was applied in an emergency.
func (s *Store) ReviewLater(ctx context.Context, revision int64, person string, at time.Time) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO later_review (revision, person, at) VALUES (?, ?, ?)`, revision, person, stamp(at))
	return err
}

// Changed calls f for what each revision changed, from a number on down to one after another,
// the newest first, until f returns false.
func (s *Store) Changed(ctx context.Context, from, after int64, f func(revision int64, changes []document.Change) bool) error {
	rows, err := s.db.QueryContext(ctx, `SELECT revision, list, name, was, before, after FROM step WHERE revision <= ? AND revision > ? ORDER BY revision DESC`, from, after)
	if err != nil {
		return err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var at int64
	var changes []document.Change
	for rows.Next() {
		var c document.Change
		var revision int64
		if err := rows.Scan(&revision, &c.List, &c.Key, &c.Was, &c.Before, &c.After); err != nil {
			return err
		}
		if revision != at && changes != nil {
			if !f(at, changes) {
				return nil
			}
			changes = nil
		}
		at, changes = revision, append(changes, c)
	}
	if changes != nil {
		f(at, changes)
	}
	return rows.Err()
}

// At returns the estate as it was at a revision; ErrNotFound for one that has not been, or of
// before the history begins. What is gone since comes last in its list.
func (s *Store) At(ctx context.Context, revision int64) (e *estate.Estate, err error) {
	err = s.inTransaction(ctx, func(tx *sql.Tx) error {
		current, err := revisionOf(ctx, tx)
		if err != nil {
			return err
		}
		var first int64
		if err := tx.QueryRowContext(ctx, `SELECT coalesce(min(number) - 1, ?) FROM revision`, current).Scan(&first); err != nil {
			return err
		}
		if revision > current || revision < first {
			return ErrNotFound
		}
		var name, description string
		if err := tx.QueryRowContext(ctx, `SELECT name, description FROM estate WHERE id = 1`).Scan(&name, &description); err != nil {
			return err
		}
		objects, err := objectsOf(ctx, tx)
		if err != nil {
			return err
		}
		changed, err := changedSince(ctx, tx, revision)
		if err != nil {
			return err
		}
		e, _, err = document.JoinReadable(name, description, putBack(objects, changed))
		return err
	})
	if err != nil && !errors.Is(err, ErrNotFound) {
		err = fmt.Errorf("the estate as of revision %d: %w", revision, err)
	}
	return e, err
}

// changedSince returns what each thing was at a revision that has changed since, by the name
// that it has now, or had when it went.
func changedSince(ctx context.Context, tx *sql.Tx, revision int64) (map[place]earlier, error) {
	// Of each thing, the first step after the revision tells what it was, the last one what it
	// is called; SQLite takes the other columns from the row with the minimum.
	rows, err := tx.QueryContext(ctx, `
		WITH firsts AS (SELECT object, list, name, was, before, min(revision) FROM step WHERE revision > ?1 GROUP BY object)
		SELECT firsts.list, coalesce(object.name, '#' || firsts.object), CASE WHEN firsts.was <> '' THEN firsts.was ELSE firsts.name END, before
		FROM firsts LEFT JOIN object ON object.id = firsts.object`, revision)
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

// AppliedDrafts returns the revisions that drafts became, by draft.
func (s *Store) AppliedDrafts(ctx context.Context) (map[int64]int64, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT json_extract(note, '$.draft'), number FROM revision WHERE note IS NOT NULL`)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	out := map[int64]int64{}
	for rows.Next() {
		var draft, revision int64
		if err := rows.Scan(&draft, &revision); err != nil {
			return nil, err
		}
		out[draft] = revision
	}
	return out, rows.Err()
}
