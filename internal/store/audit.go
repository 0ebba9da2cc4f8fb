package store

import (
	"context"
	"database/sql"
	"errors"
	"time"
)

// Entry is one line of the audit log.
type Entry struct {
	Number                               int64
	At                                   time.Time
	Actor, Address, What, About, Details string
	Chain                                []byte // the keyed hash of the entry and the chain before it
}

// Append adds an entry to the audit log, under the next number. chain returns its chain from
// the one before.
func (s *Store) Append(ctx context.Context, e *Entry, chain func(before []byte) []byte) error {
	return s.inTransaction(ctx, func(tx *sql.Tx) error {
		var before []byte
		err := tx.QueryRowContext(ctx, `SELECT number, chain FROM audit ORDER BY number DESC LIMIT 1`).Scan(&e.Number, &before)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		e.Number++
		e.Chain = chain(before)
		_, err = tx.ExecContext(ctx, `INSERT INTO audit (number, at, actor, address, what, about, detail, chain) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
			e.Number, stamp(e.At), e.Actor, e.Address, e.What, e.About, e.Details, e.Chain)
		return err
	})
}

// Entries calls f for each entry of the audit log from a number on, the oldest first, until f
// returns false.
func (s *Store) Entries(ctx context.Context, from int64, f func(*Entry) bool) error {
	return s.entries(ctx, f, `SELECT number, at, actor, address, what, about, detail, chain FROM audit WHERE number >= ? ORDER BY number`, from)
}

// LastEntries returns the newest entries before a number that hold a text, the newest first.
func (s *Store) LastEntries(ctx context.Context, before int64, find string, most int) (out []Entry, err error) {
	err = s.entries(ctx, func(e *Entry) bool { out = append(out, *e); return true },
		`SELECT number, at, actor, address, what, about, detail, chain FROM audit
		WHERE number < ?1 AND (?2 = '' OR instr(lower(actor || ' ' || address || ' ' || what || ' ' || about || ' ' || detail), lower(?2)) > 0)
		ORDER BY number DESC LIMIT ?3`, before, find, most)
	return out, err
}

func (s *Store) entries(ctx context.Context, f func(*Entry) bool, query string, args ...any) error {
	rows, err := s.db.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	for rows.Next() {
		var e Entry
		var at string
		if err := rows.Scan(&e.Number, &at, &e.Actor, &e.Address, &e.What, &e.About, &e.Details, &e.Chain); err != nil {
			return err
		}
		e.At = when(at)
		if !f(&e) {
			return nil
		}
	}
	return rows.Err()
}

// AuditSent returns up to which entry the audit log was sent on; 0 for none.
func (s *Store) AuditSent(ctx context.Context) (number int64, err error) {
	err = s.db.QueryRowContext(ctx, `SELECT number FROM audit_sent`).Scan(&number)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return number, err
}

// PutAuditSent notes up to which entry the audit log was sent on.
func (s *Store) PutAuditSent(ctx context.Context, number int64) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO audit_sent (one, number) VALUES (1, ?) ON CONFLICT (one) DO UPDATE SET number = excluded.number`, number)
	return err
}
