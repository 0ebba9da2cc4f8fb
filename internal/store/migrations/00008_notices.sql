-- +goose Up
-- What somebody should know.
CREATE TABLE notice (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    person  TEXT    NOT NULL,
    at      TEXT    NOT NULL, -- RFC 3339, UTC
    kind    TEXT    NOT NULL,
    subject TEXT    NOT NULL,
    body    TEXT    NOT NULL,
    link    TEXT    NOT NULL, -- a path of the browser
    key     TEXT    NOT NULL, -- of what is told once
    seen    INTEGER NOT NULL DEFAULT 0,
    UNIQUE (person, key)
) STRICT;

-- Where somebody wants to be told, besides in the browser.
CREATE TABLE channel (
    person  TEXT PRIMARY KEY,
    email   TEXT NOT NULL DEFAULT '',
    webhook TEXT NOT NULL DEFAULT '',
    kinds   TEXT NOT NULL DEFAULT '' -- those that are wanted there, blanks between
) STRICT, WITHOUT ROWID;

-- What is still to be sent.
CREATE TABLE delivery (
    notice INTEGER NOT NULL REFERENCES notice (id),
    way    TEXT    NOT NULL, -- email or webhook
    tries  INTEGER NOT NULL DEFAULT 0,
    next   TEXT    NOT NULL,
    why    TEXT    NOT NULL DEFAULT '', -- why the last try failed
    PRIMARY KEY (notice, way)
) STRICT, WITHOUT ROWID;

-- +goose Down
DROP TABLE delivery;
DROP TABLE channel;
DROP TABLE notice;
