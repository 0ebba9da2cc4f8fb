-- +goose Up
-- A position is one within its list, from 0.
UPDATE object SET position = r.place
FROM (SELECT list, key, row_number() OVER (PARTITION BY list ORDER BY position) - 1 AS place FROM object) AS r
WHERE object.list = r.list AND object.key = r.key;

CREATE TABLE source (
    account  TEXT PRIMARY KEY, -- as the estate calls it
    provider TEXT NOT NULL,
    endpoint TEXT NOT NULL,
    remote   TEXT NOT NULL,    -- as the provider calls it
    sealed   BLOB NOT NULL     -- the credential, encrypted
) STRICT;

CREATE TABLE reading (
    id       INTEGER PRIMARY KEY,
    account  TEXT    NOT NULL REFERENCES source (account) ON DELETE CASCADE,
    state    TEXT    NOT NULL, -- running, done, partial or cut-off
    started  TEXT    NOT NULL, -- RFC 3339, UTC
    ended    TEXT    NOT NULL DEFAULT '',
    actor    TEXT    NOT NULL,
    cursor   TEXT    NOT NULL DEFAULT '', -- of the next page
    total    INTEGER NOT NULL DEFAULT 0,
    revision INTEGER NOT NULL DEFAULT 0,  -- of the estate that it made
    report   BLOB    NOT NULL DEFAULT x'7b7d' -- JSON: notes, changes, why it ended
) STRICT;

-- What a reading has read so far; it is taken in at the end, and then dropped.
CREATE TABLE page (
    reading INTEGER NOT NULL REFERENCES reading (id) ON DELETE CASCADE,
    number  INTEGER NOT NULL,
    body    BLOB    NOT NULL, -- JSON
    PRIMARY KEY (reading, number)
) STRICT, WITHOUT ROWID;

CREATE TABLE known (
    account TEXT NOT NULL,
    kind    TEXT NOT NULL,
    id      TEXT NOT NULL,
    body    BLOB NOT NULL, -- JSON
    PRIMARY KEY (account, kind, id)
) STRICT, WITHOUT ROWID;

CREATE TABLE mapping (
    position INTEGER PRIMARY KEY,
    body     BLOB NOT NULL -- JSON
) STRICT;

-- The history of larger steps than one edit, thing by thing.
CREATE TABLE revision (
    number INTEGER PRIMARY KEY,
    at     TEXT NOT NULL,
    actor  TEXT NOT NULL,
    what   TEXT NOT NULL
) STRICT;

CREATE TABLE step (
    revision INTEGER NOT NULL REFERENCES revision (number),
    list     TEXT    NOT NULL,
    key      TEXT    NOT NULL,
    before   BLOB, -- null where it is new
    after    BLOB, -- null where it is gone
    PRIMARY KEY (revision, list, key)
) STRICT, WITHOUT ROWID;

CREATE INDEX step_of ON step (list, key);

-- +goose StatementBegin
CREATE TRIGGER step_stays BEFORE UPDATE ON step BEGIN
    SELECT RAISE(ABORT, 'the history of edits cannot be changed');
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER step_remains BEFORE DELETE ON step BEGIN
    SELECT RAISE(ABORT, 'the history of edits cannot be changed');
END;
-- +goose StatementEnd

-- +goose Down
DROP TABLE step;
DROP TABLE revision;
DROP TABLE mapping;
DROP TABLE known;
DROP TABLE page;
DROP TABLE reading;
DROP TABLE source;
