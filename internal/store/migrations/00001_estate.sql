-- +goose Up
CREATE TABLE estate (
    id          INTEGER PRIMARY KEY CHECK (id = 1), -- one estate a database
    name        TEXT    NOT NULL,
    description TEXT    NOT NULL DEFAULT '',
    revision    INTEGER NOT NULL
) STRICT;

CREATE TABLE object (
    estate   INTEGER NOT NULL REFERENCES estate (id) ON DELETE CASCADE,
    list     TEXT    NOT NULL, -- the key of its list in the document
    key      TEXT    NOT NULL, -- its name, or its place for things that have none
    position INTEGER NOT NULL,
    body     BLOB    NOT NULL, -- canonical JSON
    PRIMARY KEY (estate, list, key)
) STRICT, WITHOUT ROWID;

CREATE TABLE edit (
    revision INTEGER PRIMARY KEY, -- that the edit made
    at       TEXT    NOT NULL,    -- RFC 3339, UTC
    actor    TEXT    NOT NULL,
    list     TEXT    NOT NULL,
    key      TEXT    NOT NULL,
    before   BLOB    NOT NULL,
    after    BLOB    NOT NULL
) STRICT;

-- The history cannot be changed through the product.
-- +goose StatementBegin
CREATE TRIGGER edit_stays BEFORE UPDATE ON edit BEGIN
    SELECT RAISE(ABORT, 'the history of edits cannot be changed');
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER edit_remains BEFORE DELETE ON edit BEGIN
    SELECT RAISE(ABORT, 'the history of edits cannot be changed');
END;
-- +goose StatementEnd

-- +goose Down
DROP TABLE edit;
DROP TABLE object;
DROP TABLE estate;
