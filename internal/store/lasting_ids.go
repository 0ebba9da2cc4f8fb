package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"

	"github.com/pressly/goose/v3"

	"bivium/core/estate"
)

// lastingIDs is the migration after which each object has an id that it keeps, whatever it is
// called, and each step of the history is one of an id. Links, attachments and peerings, known
// by their places until then, get names.
func lastingIDs() *goose.Migration {
	return goose.NewGoMigration(4, &goose.GoFunc{RunTx: giveIDs}, nil)
}

const idTables = `
ALTER TABLE object RENAME TO old_object;
ALTER TABLE step RENAME TO old_step;
DROP TRIGGER step_stays;
DROP TRIGGER step_remains;
DROP INDEX step_of;
CREATE TABLE object (
    id       INTEGER PRIMARY KEY AUTOINCREMENT, -- lasting, and never given again
    list     TEXT    NOT NULL, -- the key of its list in the document
    name     TEXT    NOT NULL,
    position INTEGER NOT NULL, -- within its list, from 0
    body     BLOB    NOT NULL, -- canonical JSON
    UNIQUE (list, name)
) STRICT;
CREATE TABLE step (
    revision INTEGER NOT NULL REFERENCES revision (number),
    object   INTEGER NOT NULL, -- the id of the thing that was changed, which may have gone since
    list     TEXT    NOT NULL,
    name     TEXT    NOT NULL, -- after the step; of what went, before it
    was      TEXT    NOT NULL DEFAULT '', -- its name before, where that was another
    before   BLOB, -- null where it is new
    after    BLOB, -- null where it is gone
    PRIMARY KEY (revision, object)
) STRICT, WITHOUT ROWID;
CREATE INDEX step_of ON step (object);
CREATE INDEX step_named ON step (list, name);
ALTER TABLE revision ADD COLUMN edit BLOB; -- the operations that were asked for, with their bases: JSON
`

const idTriggers = `
DROP TABLE old_object;
DROP TABLE old_step;
CREATE TRIGGER step_stays BEFORE UPDATE ON step BEGIN SELECT RAISE(ABORT, 'the history of edits cannot be changed'); END;
CREATE TRIGGER step_remains BEFORE DELETE ON step BEGIN SELECT RAISE(ABORT, 'the history of edits cannot be changed'); END;
`

func giveIDs(ctx context.Context, tx *sql.Tx) error {
	if _, err := tx.ExecContext(ctx, idTables); err != nil {
		return err
	}
	names, err := namesOfPlaces(ctx, tx)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO object (list, name, position, body) SELECT list, key, position, body FROM old_object ORDER BY list, position`); err != nil {
		return err
	}
	for _, n := range names {
		if _, err := tx.ExecContext(ctx, `UPDATE object SET name = ?, body = ? WHERE list = ? AND name = ?`, n.name, n.body, n.list, n.key); err != nil {
			return err
		}
	}
	// What went has an id of its own; what changed has that of what is there now.
	if _, err := tx.ExecContext(ctx, `
		INSERT INTO object (list, name, position, body) SELECT DISTINCT list, key, -1, x'7b7d' FROM old_step
		WHERE NOT EXISTS (SELECT 1 FROM object WHERE object.list = old_step.list AND object.name = old_step.key);
		INSERT INTO step (revision, object, list, name, before, after) SELECT revision, id, s.list, s.key, before, after
		FROM old_step AS s JOIN object AS o ON o.list = s.list AND o.name = s.key;
		DELETE FROM object WHERE position = -1`); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, idTriggers)
	return err
}

// placed is an object that was known by its place, and the name that it gets.
type placed struct {
	list, key, name string
	body            []byte
}

// namesOfPlaces gives names to what was known by its place. The history before was one of
// places, and stays so: which connection was at which is not known any more.
func namesOfPlaces(ctx context.Context, tx *sql.Tx) ([]placed, error) {
	rows, err := tx.QueryContext(ctx, `SELECT list, key, body FROM old_object WHERE list IN ('links', 'attachments', 'peerings') ORDER BY list, position`)
	if err != nil {
		return nil, err
	}
	defer rows.Close() //nolint:errcheck // rows.Err is asked
	var out []placed
	taken := map[string]bool{}
	for rows.Next() {
		var p placed
		if err := rows.Scan(&p.list, &p.key, &p.body); err != nil {
			return nil, err
		}
		var ends struct {
			Network, Hub string
			Between      [2]string
		}
		if json.Unmarshal(p.body, &ends) != nil {
			continue // it is set aside once the estate is read
		}
		madeUp := estate.MadeUpName(ends.Between[0], ends.Between[1])
		if p.list == "attachments" {
			madeUp = estate.MadeUpName(ends.Network, ends.Hub)
		}
		p.name = estate.FreeName(madeUp, func(name string) bool { return taken[p.list+" "+name] })
		taken[p.list+" "+p.name] = true
		if p.name != madeUp {
			p.body = fmt.Appendf(nil, `{"name": %q, %s`, p.name, p.body[1:])
		}
		out = append(out, p)
	}
	return out, rows.Err()
}
