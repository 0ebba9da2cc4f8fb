package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"
)

// The states of a draft (C3.5).
const (
	DraftOpen      = "open"
	DraftReview    = "review"
	DraftApproved  = "approved"
	DraftApplied   = "applied"
	DraftDiscarded = "discarded"
)

// Draft is an edit that somebody prepares on top of the estate.
type Draft struct {
	ID                   int64
	Name, Reason, Ticket string
	State                string
	Based                int64 // the revision on which its steps stand
	Author               string
	Made, Changed        time.Time
	Revision             int64 // that it was applied as; 0 for none
	Undoes               int64 // the revision that it rolls back; 0 for none
}

// DraftStep is what was added to a draft at once.
type DraftStep struct {
	Number  int64
	Author  string
	At      time.Time
	Seen    int64  // the revision of the estate that its author saw
	Settled string // the names of those who settled a conflict of it, blanks between
	Undone  bool
	Body    []byte // JSON
}

// Approval is one of a draft, for a segment.
type Approval struct {
	Segment, Person string
	At              time.Time
	Classes         []byte // JSON
	Why             string // it stands no more; "" while it does
}

// Comment is one on a draft, or on something of it.
type Comment struct {
	ID                  int64
	About, Author, Text string
	At                  time.Time
	Resolved            string // by whom; "" while it is open
}

const draftColumns = `id, name, reason, ticket, state, based, author, made, changed, revision, undoes`

// Drafts returns all drafts, those that changed last first.
func (s *Store) Drafts(ctx context.Context) ([]Draft, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT `+draftColumns+` FROM draft ORDER BY changed DESC, id DESC`)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []Draft
	for rows.Next() {
		var d Draft
		var made, changed string
		if err := rows.Scan(&d.ID, &d.Name, &d.Reason, &d.Ticket, &d.State, &d.Based, &d.Author, &made, &changed, &d.Revision, &d.Undoes); err != nil {
			return nil, err
		}
		d.Made, d.Changed = when(made), when(changed)
		out = append(out, d)
	}
	return out, rows.Err()
}

// DraftSteps returns the steps of a draft, in their order.
func (s *Store) DraftSteps(ctx context.Context, draft int64) ([]DraftStep, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT number, author, at, seen, settled, undone, body FROM draft_step WHERE draft = ? ORDER BY number`, draft)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []DraftStep
	for rows.Next() {
		var x DraftStep
		var at string
		if err := rows.Scan(&x.Number, &x.Author, &at, &x.Seen, &x.Settled, &x.Undone, &x.Body); err != nil {
			return nil, err
		}
		x.At = when(at)
		out = append(out, x)
	}
	return out, rows.Err()
}

// PutDraft stores a draft, with all of its steps where some are given: a new one, which gets
// an ID, where that is 0.
func (s *Store) PutDraft(ctx context.Context, d *Draft, steps []DraftStep) error {
	return s.inTransaction(ctx, func(tx *sql.Tx) error {
		if err := putDraft(ctx, tx, d); err != nil {
			return err
		}
		if steps == nil {
			return nil
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM draft_step WHERE draft = ?`, d.ID); err != nil {
			return err
		}
		for i := range steps {
			if err := putDraftStep(ctx, tx, d.ID, &steps[i]); err != nil {
				return err
			}
		}
		return nil
	})
}

// AddDraftStep stores a draft with one step more, in the place of those that were undone.
func (s *Store) AddDraftStep(ctx context.Context, d *Draft, x *DraftStep) error {
	return s.inTransaction(ctx, func(tx *sql.Tx) error {
		if err := putDraft(ctx, tx, d); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM draft_step WHERE draft = ? AND number >= ?`, d.ID, x.Number); err != nil {
			return err
		}
		return putDraftStep(ctx, tx, d.ID, x)
	})
}

// TurnDraftStep stores a draft of which a step was undone, or done again.
func (s *Store) TurnDraftStep(ctx context.Context, d *Draft, x *DraftStep) error {
	return s.inTransaction(ctx, func(tx *sql.Tx) error {
		if err := putDraft(ctx, tx, d); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE draft_step SET undone = ? WHERE draft = ? AND number = ?`, x.Undone, d.ID, x.Number)
		return err
	})
}

// DraftEffect returns what was kept of what a draft does; nil if nothing was.
func (s *Store) DraftEffect(ctx context.Context, draft int64) ([]byte, error) {
	var body []byte
	err := s.db.QueryRowContext(ctx, `SELECT body FROM draft_effect WHERE draft = ?`, draft).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return body, err
}

// PutDraftEffect keeps what a draft does, as JSON.
func (s *Store) PutDraftEffect(ctx context.Context, draft int64, body []byte) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO draft_effect (draft, body) VALUES (?, ?) ON CONFLICT (draft) DO UPDATE SET body = excluded.body`, draft, body)
	return err
}

func putDraft(ctx context.Context, tx *sql.Tx, d *Draft) error {
	if d.ID == 0 {
		return tx.QueryRowContext(ctx, `INSERT INTO draft (name, reason, ticket, state, based, author, made, changed, revision, undoes) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id`,
			d.Name, d.Reason, d.Ticket, d.State, d.Based, d.Author, stamp(d.Made), stamp(d.Changed), d.Revision, d.Undoes).Scan(&d.ID)
	}
	done, err := tx.ExecContext(ctx, `UPDATE draft SET name = ?, reason = ?, ticket = ?, state = ?, based = ?, changed = ?, revision = ? WHERE id = ?`,
		d.Name, d.Reason, d.Ticket, d.State, d.Based, stamp(d.Changed), d.Revision, d.ID)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, ErrNotFound)
	}
	return nil
}

func putDraftStep(ctx context.Context, tx *sql.Tx, draft int64, x *DraftStep) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO draft_step (draft, number, author, at, seen, settled, undone, body) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		draft, x.Number, x.Author, stamp(x.At), x.Seen, x.Settled, x.Undone, x.Body)
	return err
}

// Approvals returns the approvals of a draft, the oldest first.
func (s *Store) Approvals(ctx context.Context, draft int64) ([]Approval, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT segment, person, at, classes, why FROM approval WHERE draft = ? ORDER BY at, segment`, draft)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []Approval
	for rows.Next() {
		var a Approval
		var at string
		if err := rows.Scan(&a.Segment, &a.Person, &at, &a.Classes, &a.Why); err != nil {
			return nil, err
		}
		a.At = when(at)
		out = append(out, a)
	}
	return out, rows.Err()
}

// PutApprovals stores approvals of a draft, in the place of those that it had.
func (s *Store) PutApprovals(ctx context.Context, draft int64, all []Approval) error {
	return s.inTransaction(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM approval WHERE draft = ?`, draft); err != nil {
			return err
		}
		for _, a := range all {
			if _, err := tx.ExecContext(ctx, `INSERT INTO approval (draft, segment, person, at, classes, why) VALUES (?, ?, ?, ?, ?, ?)`, draft, a.Segment, a.Person, stamp(a.At), a.Classes, a.Why); err != nil {
				return fmt.Errorf("store the approval of %s: %w", a.Person, err)
			}
		}
		return nil
	})
}

// Comments returns the comments on a draft, the oldest first.
func (s *Store) Comments(ctx context.Context, draft int64) ([]Comment, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, about, author, at, text, resolved FROM comment WHERE draft = ? ORDER BY id`, draft)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []Comment
	for rows.Next() {
		var c Comment
		var at string
		if err := rows.Scan(&c.ID, &c.About, &c.Author, &at, &c.Text, &c.Resolved); err != nil {
			return nil, err
		}
		c.At = when(at)
		out = append(out, c)
	}
	return out, rows.Err()
}

// AddComment stores a comment on a draft.
func (s *Store) AddComment(ctx context.Context, draft int64, c *Comment) error {
	return s.db.QueryRowContext(ctx, `INSERT INTO comment (draft, about, author, at, text) VALUES (?, ?, ?, ?, ?) RETURNING id`, draft, c.About, c.Author, stamp(c.At), c.Text).Scan(&c.ID)
}

// ResolveComment says by whom a comment on a draft was resolved.
func (s *Store) ResolveComment(ctx context.Context, draft, id int64, by string) error {
	done, err := s.db.ExecContext(ctx, `UPDATE comment SET resolved = ? WHERE draft = ? AND id = ?`, by, draft, id)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, ErrNotFound)
	}
	return nil
}
