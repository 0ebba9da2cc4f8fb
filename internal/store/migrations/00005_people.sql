-- +goose Up
CREATE TABLE person (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    name     TEXT    NOT NULL UNIQUE, -- to sign in with
    called   TEXT    NOT NULL,        -- as others read it
    password TEXT    NOT NULL DEFAULT '', -- argon2id, as PHC strings have it; '' for none
    subject  TEXT    UNIQUE,          -- issuer and subject, where somebody else vouches for them
    active   INTEGER NOT NULL DEFAULT 1,
    grants   BLOB    NOT NULL,        -- JSON: roles, each with the segments that it is limited to
    made     TEXT    NOT NULL         -- RFC 3339, UTC
) STRICT;

CREATE TABLE team (
    name    TEXT PRIMARY KEY,
    members BLOB NOT NULL -- JSON: names of people
) STRICT;

-- A link with which somebody sets a password, once.
CREATE TABLE link (
    hash   BLOB PRIMARY KEY,
    person INTEGER REFERENCES person (id) ON DELETE CASCADE, -- null: the first administrator
    ends   TEXT NOT NULL
) STRICT;

CREATE TABLE token (
    id     INTEGER PRIMARY KEY AUTOINCREMENT,
    person INTEGER NOT NULL REFERENCES person (id) ON DELETE CASCADE,
    name   TEXT    NOT NULL, -- what it is for
    hash   BLOB    NOT NULL UNIQUE,
    role   TEXT    NOT NULL,
    made   TEXT    NOT NULL,
    ends   TEXT    NOT NULL,
    used   TEXT    NOT NULL DEFAULT ''
) STRICT;

CREATE TABLE session (
    hash TEXT    PRIMARY KEY,
    data BLOB    NOT NULL,
    ends INTEGER NOT NULL -- Unix time, seconds
) STRICT;

-- Secrets of the server, each sealed by the vault.
CREATE TABLE secret (
    name   TEXT PRIMARY KEY,
    sealed BLOB NOT NULL
) STRICT;

CREATE TABLE audit (
    number  INTEGER PRIMARY KEY, -- from 1, without gaps
    at      TEXT NOT NULL,       -- RFC 3339, UTC
    actor   TEXT NOT NULL,
    address TEXT NOT NULL,
    what    TEXT NOT NULL,
    about   TEXT NOT NULL,
    detail  TEXT NOT NULL,
    chain   BLOB NOT NULL        -- keyed hash of this entry and the chain before it
) STRICT;

-- +goose StatementBegin
CREATE TRIGGER audit_stays BEFORE UPDATE ON audit BEGIN SELECT RAISE(ABORT, 'the audit log cannot be changed'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER audit_remains BEFORE DELETE ON audit BEGIN SELECT RAISE(ABORT, 'the audit log cannot be changed'); END;
-- +goose StatementEnd

-- +goose Down
DROP TABLE audit;
DROP TABLE secret;
DROP TABLE session;
DROP TABLE token;
DROP TABLE link;
DROP TABLE team;
DROP TABLE person;
