package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// Person is somebody who may sign in.
type Person struct {
	ID           int64
	Name, Called string
	Password     string // argon2id; "" for none
	Subject      string // who vouches for them, and as whom; "" for nobody
	Active       bool
	Grants       []byte // JSON
	Made         time.Time
}

// Token is a secret with which a script acts for a person. Only its hash is kept.
type Token struct {
	ID, Person       int64
	Name, Role       string
	Hash             []byte
	Made, Ends, Used time.Time // Used is zero for one that never was
}

// ErrTaken is returned for a name that somebody else has.
var ErrTaken = errors.New("the name is already taken")

// People returns everybody, by name.
func (s *Store) People(ctx context.Context) ([]Person, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, name, called, password, coalesce(subject, ''), active, grants, made FROM person ORDER BY name`)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []Person
	for rows.Next() {
		var p Person
		var made string
		if err := rows.Scan(&p.ID, &p.Name, &p.Called, &p.Password, &p.Subject, &p.Active, &p.Grants, &made); err != nil {
			return nil, err
		}
		p.Made = when(made)
		out = append(out, p)
	}
	return out, rows.Err()
}

// PutPerson stores a person: a new one, who gets an ID, where it is 0. A name that somebody
// else has is ErrTaken.
func (s *Store) PutPerson(ctx context.Context, p *Person) error {
	return s.inTransaction(ctx, func(tx *sql.Tx) error {
		var others int
		if err := tx.QueryRowContext(ctx, `SELECT count(*) FROM person WHERE name = ? AND id <> ?`, p.Name, p.ID).Scan(&others); err != nil {
			return err
		}
		if others > 0 {
			return ErrTaken
		}
		subject := sql.NullString{String: p.Subject, Valid: p.Subject != ""}
		if p.ID == 0 {
			return tx.QueryRowContext(ctx, `INSERT INTO person (name, called, password, subject, active, grants, made) VALUES (?, ?, ?, ?, ?, ?, ?) RETURNING id`,
				p.Name, p.Called, p.Password, subject, p.Active, p.Grants, stamp(p.Made)).Scan(&p.ID)
		}
		_, err := tx.ExecContext(ctx, `UPDATE person SET name = ?, called = ?, password = ?, subject = ?, active = ?, grants = ? WHERE id = ?`,
			p.Name, p.Called, p.Password, subject, p.Active, p.Grants, p.ID)
		return err
	})
}

// Teams returns the names of the members of each team.
func (s *Store) Teams(ctx context.Context) (map[string][]string, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT name, members FROM team`)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	out := map[string][]string{}
	for rows.Next() {
		var name string
		var body []byte
		if err := rows.Scan(&name, &body); err != nil {
			return nil, err
		}
		var members []string
		if err := json.Unmarshal(body, &members); err != nil {
			return nil, fmt.Errorf("team %s: %w", name, err)
		}
		out[name] = members
	}
	return out, rows.Err()
}

// PutTeam stores who is in a team; nobody, and there is no such team any more.
func (s *Store) PutTeam(ctx context.Context, name string, members []string) error {
	if len(members) == 0 {
		_, err := s.db.ExecContext(ctx, `DELETE FROM team WHERE name = ?`, name)
		return err
	}
	body, err := json.Marshal(members)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, `INSERT INTO team (name, members) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET members = excluded.members`, name, body)
	return err
}

// PutLink stores a link by its hash, until it is used or over. person is 0 for the first
// administrator.
func (s *Store) PutLink(ctx context.Context, hash []byte, person int64, ends time.Time) error {
	return s.inTransaction(ctx, func(tx *sql.Tx) error {
		of := sql.NullInt64{Int64: person, Valid: person != 0}
		if _, err := tx.ExecContext(ctx, `DELETE FROM link WHERE person IS ?`, of); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO link (hash, person, ends) VALUES (?, ?, ?)`, hash, of, stamp(ends))
		return err
	})
}

// UseLink takes a link, which is good once, and returns whose it is: 0 for the first
// administrator. One that is not there, or over at a time, is ErrNotFound.
func (s *Store) UseLink(ctx context.Context, hash []byte, now time.Time) (person int64, err error) {
	var of sql.NullInt64
	err = s.db.QueryRowContext(ctx, `DELETE FROM link WHERE hash = ? AND ends > ? RETURNING person`, hash, stamp(now)).Scan(&of)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, ErrNotFound
	}
	return of.Int64, err
}

// PutToken stores a new token, which gets an ID.
func (s *Store) PutToken(ctx context.Context, t *Token) error {
	return s.db.QueryRowContext(ctx, `INSERT INTO token (person, name, hash, role, made, ends) VALUES (?, ?, ?, ?, ?, ?) RETURNING id`,
		t.Person, t.Name, t.Hash, t.Role, stamp(t.Made), stamp(t.Ends)).Scan(&t.ID)
}

// DropToken revokes a token of a person; ErrNotFound if there is none.
func (s *Store) DropToken(ctx context.Context, id, person int64) error {
	done, err := s.db.ExecContext(ctx, `DELETE FROM token WHERE id = ? AND person = ?`, id, person)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, ErrNotFound)
	}
	return nil
}

// Tokens returns all tokens, the oldest first.
func (s *Store) Tokens(ctx context.Context) ([]Token, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, person, name, role, hash, made, ends, used FROM token ORDER BY id`)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []Token
	for rows.Next() {
		var t Token
		var made, ends, used string
		if err := rows.Scan(&t.ID, &t.Person, &t.Name, &t.Role, &t.Hash, &made, &ends, &used); err != nil {
			return nil, err
		}
		t.Made, t.Ends, t.Used = when(made), when(ends), when(used)
		out = append(out, t)
	}
	return out, rows.Err()
}

// UseToken notes when a token was used.
func (s *Store) UseToken(ctx context.Context, id int64, at time.Time) error {
	_, err := s.db.ExecContext(ctx, `UPDATE token SET used = ? WHERE id = ?`, stamp(at), id)
	return err
}

// Session returns what is kept of a session by the hash of its token; nil for one that is not
// there, or over.
func (s *Store) Session(ctx context.Context, hash string, now time.Time) (data []byte, ends time.Time, err error) {
	var seconds int64
	err = s.db.QueryRowContext(ctx, `SELECT data, ends FROM session WHERE hash = ? AND ends > ?`, hash, now.Unix()).Scan(&data, &seconds)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ends, nil
	}
	return data, time.Unix(seconds, 0), err
}

// PutSession stores a session, and forgets those that are over.
func (s *Store) PutSession(ctx context.Context, hash string, data []byte, ends, now time.Time) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM session WHERE ends <= ?1 AND hash <> ?2;
		INSERT INTO session (hash, data, ends) VALUES (?2, ?3, ?4) ON CONFLICT (hash) DO UPDATE SET data = excluded.data, ends = excluded.ends`,
		now.Unix(), hash, data, ends.Unix())
	return err
}

// DropSession ends a session.
func (s *Store) DropSession(ctx context.Context, hash string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM session WHERE hash = ?`, hash)
	return err
}

// Sessions returns what is kept of all sessions, by hash.
func (s *Store) Sessions(ctx context.Context, now time.Time) (map[string][]byte, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT hash, data FROM session WHERE ends > ?`, now.Unix())
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	out := map[string][]byte{}
	for rows.Next() {
		var hash string
		var data []byte
		if err := rows.Scan(&hash, &data); err != nil {
			return nil, err
		}
		out[hash] = data
	}
	return out, rows.Err()
}

// Secret returns a sealed secret; nil if there is none of that name.
func (s *Store) Secret(ctx context.Context, name string) (sealed []byte, err error) {
	err = s.db.QueryRowContext(ctx, `SELECT sealed FROM secret WHERE name = ?`, name).Scan(&sealed)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return sealed, err
}

// PutSecret stores a sealed secret.
func (s *Store) PutSecret(ctx context.Context, name string, sealed []byte) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO secret (name, sealed) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET sealed = excluded.sealed`, name, sealed)
	return err
}

// when reads a time as stamp writes it; zero for none.
func when(text string) time.Time {
	t, _ := time.Parse(time.RFC3339, text)
	return t
}
