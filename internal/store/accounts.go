package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"bivium/core/inventory"
)

// Source is how an account is reached. Sealed is its credential, encrypted.
type Source struct {
	Account, Provider, Endpoint, Remote string
	Sealed                              []byte
}

// The states of a reading.
const (
	Running = "running"
	Done    = "done"
	Partial = "partial" // it ended early; what it read was taken in
	CutOff  = "cut-off" // the server ended while it ran; it can go on
)

// Reading is one run over an account's inventory.
type Reading struct {
	ID             int64
	Account, State string
	Started, Ended time.Time
	Actor          string
	Cursor         string
	Total          int
	Revision       int64
	Report         []byte // JSON
}

// PutSource stores how an account is reached, in place of how it was.
func (s *Store) PutSource(ctx context.Context, o *Source) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO source (account, provider, endpoint, remote, sealed) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (account) DO UPDATE SET provider = excluded.provider, endpoint = excluded.endpoint, remote = excluded.remote, sealed = excluded.sealed`,
		o.Account, o.Provider, o.Endpoint, o.Remote, o.Sealed)
	return err
}

// DropSource forgets how an account is reached, with its credential and its
// readings.
func (s *Store) DropSource(ctx context.Context, account string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM source WHERE account = ?`, account)
	return err
}

// Sources returns how each account is reached, by name.
func (s *Store) Sources(ctx context.Context) ([]Source, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT account, provider, endpoint, remote, sealed FROM source ORDER BY account`)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []Source
	for rows.Next() {
		var o Source
		if err := rows.Scan(&o.Account, &o.Provider, &o.Endpoint, &o.Remote, &o.Sealed); err != nil {
			return nil, err
		}
		out = append(out, o)
	}
	return out, rows.Err()
}

// StartReading stores a reading that begins, and gives it its ID.
func (s *Store) StartReading(ctx context.Context, r *Reading) error {
	r.State, r.Report = Running, []byte("{}")
	return s.db.QueryRowContext(ctx, `INSERT INTO reading (account, state, started, actor) VALUES (?, ?, ?, ?) RETURNING id`,
		r.Account, r.State, stamp(r.Started), r.Actor).Scan(&r.ID)
}

// KeepPage stores a page of a reading, and where it goes on. It returns how many bytes the
// page takes.
func (s *Store) KeepPage(ctx context.Context, r *Reading, page *inventory.Reading, notes []string) (int, error) {
	body, err := json.Marshal(pageBody{page.Networks, page.Workloads, notes})
	if err != nil {
		return 0, err
	}
	return len(body), s.inTransaction(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO page (reading, number, body) SELECT ?, count(*), ? FROM page WHERE reading = ?`, r.ID, body, r.ID); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE reading SET cursor = ?, total = ?, state = ? WHERE id = ?`, r.Cursor, r.Total, r.State, r.ID)
		return err
	})
}

type pageBody struct {
	Networks  []inventory.Network
	Workloads []inventory.Workload
	Notes     []string
}

// Pages returns everything that a reading has read so far.
func (s *Store) Pages(ctx context.Context, id int64) (networks []inventory.Network, workloads []inventory.Workload, notes []string, err error) {
	pages, err := bodies[pageBody](ctx, s.db, `SELECT body FROM page WHERE reading = ? ORDER BY number`, id)
	if err != nil {
		return nil, nil, nil, fmt.Errorf("load what was read: %w", err)
	}
	for _, p := range pages {
		networks, workloads, notes = append(networks, p.Networks...), append(workloads, p.Workloads...), append(notes, p.Notes...)
	}
	return networks, workloads, notes, nil
}

// EndReading stores how a reading ended that left the estate as it was, and what
// is known of all accounts; nil where that did not change.
func (s *Store) EndReading(ctx context.Context, r *Reading, known []inventory.Known) error {
	return s.inTransaction(ctx, func(tx *sql.Tx) error {
		return errors.Join(putKnown(ctx, tx, known), endReading(ctx, tx, r))
	})
}

func endReading(ctx context.Context, tx *sql.Tx, r *Reading) error {
	if _, err := tx.ExecContext(ctx, `UPDATE reading SET state = ?, ended = ?, cursor = ?, total = ?, revision = ?, report = ? WHERE id = ?`,
		r.State, stamp(r.Ended), r.Cursor, r.Total, r.Revision, r.Report, r.ID); err != nil {
		return err
	}
	if r.Cursor != "" { // it may go on
		return nil
	}
	_, err := tx.ExecContext(ctx, `DELETE FROM page WHERE reading = ?`, r.ID)
	return err
}

// Interrupted marks the readings that ran when the server last ended.
func (s *Store) Interrupted(ctx context.Context) error {
	_, err := s.db.ExecContext(ctx, `UPDATE reading SET state = ? WHERE state = ?`, CutOff, Running)
	return err
}

// LastReading returns the last reading of an account, or ErrNotFound.
func (s *Store) LastReading(ctx context.Context, account string) (*Reading, error) {
	var r Reading
	var started, ended string
	err := s.db.QueryRowContext(ctx, `SELECT id, account, state, started, ended, actor, cursor, total, revision, report FROM reading WHERE account = ? ORDER BY id DESC LIMIT 1`, account).
		Scan(&r.ID, &r.Account, &r.State, &started, &ended, &r.Actor, &r.Cursor, &r.Total, &r.Revision, &r.Report)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("a reading of %s: %w", account, ErrNotFound)
	}
	if err != nil {
		return nil, err
	}
	r.Started, err = time.Parse(time.RFC3339, started)
	if ended != "" && err == nil {
		r.Ended, err = time.Parse(time.RFC3339, ended)
	}
	return &r, err
}
