package store

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"time"
)

// Notice is something that somebody should know.
type Notice struct {
	ID                                     int64
	Person, Kind, Subject, Body, Link, Key string
	At                                     time.Time
	Seen                                   bool
}

// Channel is where somebody wants to be told, besides in the browser.
type Channel struct {
	Person, Email, Webhook string
	Kinds                  []string
}

// Delivery is a notice that is still to be sent one way.
type Delivery struct {
	Notice
	Way   string
	Tries int
	Why   string
}

// AddNotice stores a notice with the ways that it is to be sent, unless its person had one of
// the same key. It reports whether it is new.
func (s *Store) AddNotice(ctx context.Context, n *Notice, ways []string) (bool, error) {
	added := false
	return added, s.inTransaction(ctx, func(tx *sql.Tx) error {
		err := tx.QueryRowContext(ctx, `INSERT INTO notice (person, at, kind, subject, body, link, key) VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING RETURNING id`,
			n.Person, stamp(n.At), n.Kind, n.Subject, n.Body, n.Link, n.Key).Scan(&n.ID)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		added = true
		for _, way := range ways {
			if _, err := tx.ExecContext(ctx, `INSERT INTO delivery (notice, way, next) VALUES (?, ?, ?)`, n.ID, way, stamp(n.At)); err != nil {
				return err
			}
		}
		return nil
	})
}

const noticeColumns = `notice.id, person, at, kind, subject, body, link, key, seen`

func scanNotice(rows *sql.Rows, n *Notice, more ...any) error {
	var at string
	if err := rows.Scan(append([]any{&n.ID, &n.Person, &at, &n.Kind, &n.Subject, &n.Body, &n.Link, &n.Key, &n.Seen}, more...)...); err != nil {
		return err
	}
	n.At = when(at)
	return nil
}

// Notices returns the last notices of a person, the newest first.
func (s *Store) Notices(ctx context.Context, person string, most int) ([]Notice, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT `+noticeColumns+` FROM notice WHERE person = ? ORDER BY id DESC LIMIT ?`, person, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []Notice
	for rows.Next() {
		var n Notice
		if err := scanNotice(rows, &n); err != nil {
			return nil, err
		}
		out = append(out, n)
	}
	return out, rows.Err()
}

// SeeNotices marks the notices of a person up to one as seen.
func (s *Store) SeeNotices(ctx context.Context, person string, upTo int64) error {
	_, err := s.db.ExecContext(ctx, `UPDATE notice SET seen = 1 WHERE person = ? AND id <= ?`, person, upTo)
	return err
}

// ChannelOf returns where a person wants to be told; nowhere by default.
func (s *Store) ChannelOf(ctx context.Context, person string) (*Channel, error) {
	c, kinds := &Channel{Person: person}, ""
	err := s.db.QueryRowContext(ctx, `SELECT email, webhook, kinds FROM channel WHERE person = ?`, person).Scan(&c.Email, &c.Webhook, &kinds)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	c.Kinds = strings.Fields(kinds)
	return c, err
}

// PutChannel stores where a person wants to be told.
func (s *Store) PutChannel(ctx context.Context, c *Channel) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO channel (person, email, webhook, kinds) VALUES (?, ?, ?, ?)
		ON CONFLICT (person) DO UPDATE SET email = excluded.email, webhook = excluded.webhook, kinds = excluded.kinds`, c.Person, c.Email, c.Webhook, strings.Join(c.Kinds, " "))
	return err
}

// DueDeliveries returns what is to be sent by a time, the oldest first.
func (s *Store) DueDeliveries(ctx context.Context, now time.Time, most int) ([]Delivery, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT `+noticeColumns+`, way, tries, why FROM delivery JOIN notice ON notice.id = notice WHERE next <= ? ORDER BY notice LIMIT ?`, stamp(now), most)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []Delivery
	for rows.Next() {
		var d Delivery
		if err := scanNotice(rows, &d.Notice, &d.Way, &d.Tries, &d.Why); err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	return out, rows.Err()
}

// Delivered forgets a delivery: it is sent, or given up.
func (s *Store) Delivered(ctx context.Context, d *Delivery) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM delivery WHERE notice = ? AND way = ?`, d.ID, d.Way)
	return err
}

// DeliverLater notes that a delivery failed, and when it is tried again.
func (s *Store) DeliverLater(ctx context.Context, d *Delivery, next time.Time) error {
	_, err := s.db.ExecContext(ctx, `UPDATE delivery SET tries = ?, next = ?, why = ? WHERE notice = ? AND way = ?`, d.Tries, stamp(next), d.Why, d.ID, d.Way)
	return err
}
