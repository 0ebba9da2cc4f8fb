package store

import (
	"context"
	"fmt"
	"strings"
)

// Window is when drafts that concern a segment may be applied, or, where it has a first day, when
// they may not.
type Window struct {
	ID            int64
	Segment       string // "" for all
	Days          []string
	Opens, Closes string
	Zone          string
	First, Last   string
	Why           string
}

// Windows returns all windows and freezes, in the order in which they were made.
func (s *Store) Windows(ctx context.Context) ([]Window, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, segment, days, opens, closes, zone, first, last, why FROM change_window ORDER BY id`)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []Window
	for rows.Next() {
		var w Window
		var days string
		if err := rows.Scan(&w.ID, &w.Segment, &days, &w.Opens, &w.Closes, &w.Zone, &w.First, &w.Last, &w.Why); err != nil {
			return nil, err
		}
		w.Days = strings.Fields(days)
		out = append(out, w)
	}
	return out, rows.Err()
}

// AddWindow stores a window or freeze, and gives it its ID.
func (s *Store) AddWindow(ctx context.Context, w *Window) error {
	return s.db.QueryRowContext(ctx, `INSERT INTO change_window (segment, days, opens, closes, zone, first, last, why) VALUES (?, ?, ?, ?, ?, ?, ?, ?) RETURNING id`,
		w.Segment, strings.Join(w.Days, " "), w.Opens, w.Closes, w.Zone, w.First, w.Last, w.Why).Scan(&w.ID)
}

// DropWindow removes a window or freeze, or says ErrNotFound.
func (s *Store) DropWindow(ctx context.Context, id int64) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM change_window WHERE id = ?`, id)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return fmt.Errorf("window %d: %w", id, ErrNotFound)
}
