package store

import (
	"context"
	"time"
)

// Step is one change of one thing.
type Step struct {
	Revision int64     `json:"revision"`
	At       time.Time `json:"at"`
	Actor    string    `json:"actor"`
	What     string    `json:"what"`
	Before   string    `json:"before"` // JSON; "" where it was new
	After    string    `json:"after"`  // JSON; "" where it went
}

// History returns the last changes of a thing, newest first, under whatever names it had. Of
// one that is not there, it is the history of the last that was.
func (s *Store) History(ctx context.Context, list, key string, most int) ([]Step, error) {
	rows, err := s.db.QueryContext(ctx, `
		SELECT step.revision, at, actor, what, coalesce(before, ''), coalesce(after, '') FROM step JOIN revision ON number = step.revision
		WHERE object = coalesce((SELECT id FROM object WHERE list = ?1 AND name = ?2), (SELECT max(object) FROM step WHERE list = ?1 AND name = ?2))
		ORDER BY 1 DESC LIMIT ?3`, list, key, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []Step
	for rows.Next() {
		var x Step
		var at string
		if err := rows.Scan(&x.Revision, &at, &x.Actor, &x.What, &x.Before, &x.After); err != nil {
			return nil, err
		}
		if x.At, err = time.Parse(time.RFC3339, at); err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, rows.Err()
}
