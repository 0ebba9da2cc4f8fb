package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"
)

// The states of a plan.
const (
	PlanAsks       = "asks"    // a person must start it
	PlanRunning    = "running" // or going on when the server starts
	PlanPaused     = "paused"
	PlanStopped    = "stopped"
	PlanStuck      = "stuck" // nothing that is left can be written
	PlanDone       = "done"
	PlanSuperseded = "superseded" // by a later one
)

// The states of a write.
const (
	WriteWaiting  = "waiting"
	WriteRetrying = "retrying" // the target does not answer
	WriteRefused  = "refused"  // the target does not take it
	WriteChanged  = "changed"  // somebody else has written in between
	WriteDone     = "done"     // acknowledged, and read back
)

// InForce is a document as Bivium last wrote it, or found it when it began.
type InForce struct {
	Document, Hash string
	Revision       int64
	At             time.Time
	Body           []byte // JSON
	Written        bool   // by Bivium; stays so
}

// Plan is one leading of targets to what a revision asks of them.
type Plan struct {
	ID, Revision int64
	Cause, Actor string
	State, Why   string
	Made, Ended  time.Time
	Body         []byte // JSON
}

// PlanWrite is how far one write of a plan is.
type PlanWrite struct {
	Number              int
	State, Why, Version string
	Tries               int
	At                  time.Time
}

// AllInForce returns every document that is known to be in force, by name.
func (s *Store) AllInForce(ctx context.Context) ([]InForce, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT document, hash, revision, at, body, written FROM in_force ORDER BY document`)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []InForce
	for rows.Next() {
		var f InForce
		var at string
		if err := rows.Scan(&f.Document, &f.Hash, &f.Revision, &at, &f.Body, &f.Written); err != nil {
			return nil, err
		}
		f.At = when(at)
		out = append(out, f)
	}
	return out, rows.Err()
}

// DigestsInForce returns the digests of the documents that are known to be in force, by name; ""
// for one that was noted before there were digests. Cost: the documents, not what they hold.
func (s *Store) DigestsInForce(ctx context.Context) (map[string]string, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT document, hash FROM in_force`)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	out := map[string]string{}
	for rows.Next() {
		var name, digest string
		if err := rows.Scan(&name, &digest); err != nil {
			return nil, err
		}
		out[name] = digest
	}
	return out, rows.Err()
}

// WrittenDocuments returns the names of the documents in force that Bivium has written.
func (s *Store) WrittenDocuments(ctx context.Context) ([]string, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT document FROM in_force WHERE written ORDER BY document`)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		out = append(out, name)
	}
	return out, rows.Err()
}

// PutInForce stores documents that are in force from now on.
func (s *Store) PutInForce(ctx context.Context, all []InForce) error {
	return s.inTransaction(ctx, func(tx *sql.Tx) error {
		for i := range all {
			if err := putInForce(ctx, tx, &all[i]); err != nil {
				return err
			}
		}
		return nil
	})
}

func putInForce(ctx context.Context, tx *sql.Tx, f *InForce) error {
	if f.Body == nil {
		_, err := tx.ExecContext(ctx, `DELETE FROM in_force WHERE document = ?`, f.Document)
		return err
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO in_force (document, hash, revision, at, body, written) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT (document) DO UPDATE SET hash = excluded.hash, revision = excluded.revision, at = excluded.at, body = excluded.body,
			written = MAX(written, excluded.written)`,
		f.Document, f.Hash, f.Revision, stamp(f.At), f.Body, f.Written)
	return err
}

// AddPlan stores a plan before its first write, in place of all that have not ended, and gives
// it its ID.
func (s *Store) AddPlan(ctx context.Context, p *Plan, writes int) error {
	return s.inTransaction(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE plan SET state = ?, ended = ? WHERE state IN (?, ?, ?, ?, ?)`,
			PlanSuperseded, stamp(p.Made), PlanAsks, PlanRunning, PlanPaused, PlanStopped, PlanStuck); err != nil {
			return err
		}
		if err := tx.QueryRowContext(ctx, `INSERT INTO plan (revision, cause, actor, made, state, why, body) VALUES (?, ?, ?, ?, ?, ?, ?) RETURNING id`,
			p.Revision, p.Cause, p.Actor, stamp(p.Made), p.State, p.Why, p.Body).Scan(&p.ID); err != nil {
			return err
		}
		for i := range writes {
			if _, err := tx.ExecContext(ctx, `INSERT INTO plan_write (plan, number, state) VALUES (?, ?, ?)`, p.ID, i, WriteWaiting); err != nil {
				return err
			}
		}
		return nil
	})
}

// MovePlan gives a plan another state.
func (s *Store) MovePlan(ctx context.Context, id int64, state, why string, at time.Time) error {
	ended := ""
	if state == PlanDone || state == PlanSuperseded {
		ended = stamp(at)
	}
	_, err := s.db.ExecContext(ctx, `UPDATE plan SET state = ?, why = ?, ended = ? WHERE id = ?`, state, why, ended, id)
	return err
}

// PutWrite stores how far a write is, and, where it is done, what is in force by it.
func (s *Store) PutWrite(ctx context.Context, plan int64, w *PlanWrite, f *InForce) error {
	return s.inTransaction(ctx, func(tx *sql.Tx) error {
		if f != nil {
			if err := putInForce(ctx, tx, f); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `UPDATE plan_write SET state = ?, tries = ?, why = ?, version = ?, at = ? WHERE plan = ? AND number = ?`,
			w.State, w.Tries, w.Why, w.Version, stamp(w.At), plan, w.Number)
		return err
	})
}

const planColumns = `id, revision, cause, actor, state, why, made, ended, body`

// Plans returns the last plans, the newest first.
func (s *Store) Plans(ctx context.Context, most int) ([]Plan, error) {
	return s.plans(ctx, `SELECT `+planColumns+` FROM plan ORDER BY id DESC LIMIT ?`, most)
}

// PlanOf returns a plan, or ErrNotFound.
func (s *Store) PlanOf(ctx context.Context, id int64) (*Plan, error) {
	all, err := s.plans(ctx, `SELECT `+planColumns+` FROM plan WHERE id = ?`, id)
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("plan %d: %w", id, ErrNotFound)
	}
	if err != nil {
		return nil, err
	}
	return &all[0], nil
}

func (s *Store) plans(ctx context.Context, query string, args ...any) ([]Plan, error) {
	rows, err := s.db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []Plan
	for rows.Next() {
		var p Plan
		var made, ended string
		if err := rows.Scan(&p.ID, &p.Revision, &p.Cause, &p.Actor, &p.State, &p.Why, &made, &ended, &p.Body); err != nil {
			return nil, err
		}
		if p.Made = when(made); ended != "" {
			p.Ended = when(ended)
		}
		out = append(out, p)
	}
	return out, rows.Err()
}

// PlanWrites returns how far the writes of a plan are, by number.
func (s *Store) PlanWrites(ctx context.Context, plan int64) ([]PlanWrite, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT number, state, tries, why, version, at FROM plan_write WHERE plan = ? ORDER BY number`, plan)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []PlanWrite
	for rows.Next() {
		var w PlanWrite
		var at string
		if err := rows.Scan(&w.Number, &w.State, &w.Tries, &w.Why, &w.Version, &at); err != nil {
			return nil, err
		}
		if at != "" {
			w.At = when(at)
		}
		out = append(out, w)
	}
	return out, rows.Err()
}

// Round is a round of test packets.
type Round struct {
	ID, Revision, Plan int64
	Actor              string
	At                 time.Time
	Sent, Wrong        int
	Body               []byte // JSON
}

// AddRound stores a round, and gives it its ID.
func (s *Store) AddRound(ctx context.Context, r *Round) error {
	return s.db.QueryRowContext(ctx, `INSERT INTO round (revision, plan, actor, at, sent, wrong, body) VALUES (?, ?, ?, ?, ?, ?, ?) RETURNING id`,
		r.Revision, r.Plan, r.Actor, stamp(r.At), r.Sent, r.Wrong, r.Body).Scan(&r.ID)
}

// Rounds returns the last rounds, the newest first.
func (s *Store) Rounds(ctx context.Context, most int) ([]Round, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, revision, plan, actor, at, sent, wrong, body FROM round ORDER BY id DESC LIMIT ?`, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []Round
	for rows.Next() {
		var r Round
		var at string
		if err := rows.Scan(&r.ID, &r.Revision, &r.Plan, &r.Actor, &at, &r.Sent, &r.Wrong, &r.Body); err != nil {
			return nil, err
		}
		r.At = when(at)
		out = append(out, r)
	}
	return out, rows.Err()
}
