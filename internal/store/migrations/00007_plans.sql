-- +goose Up
-- What Bivium wrote last to each target, or found there when it began: what drift is told from.
CREATE TABLE in_force (
    document TEXT    PRIMARY KEY, -- kind, account, name and what it hangs on
    hash     TEXT    NOT NULL,    -- of what it means to the target
    revision INTEGER NOT NULL,    -- that it was written for
    at       TEXT    NOT NULL,    -- RFC 3339, UTC
    body     BLOB    NOT NULL     -- the document with its key, JSON
) STRICT, WITHOUT ROWID;

CREATE TABLE plan (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    revision INTEGER NOT NULL, -- that it leads to
    cause    TEXT    NOT NULL, -- what brought it: edit, sync, router, drift or person
    actor    TEXT    NOT NULL,
    made     TEXT    NOT NULL,
    state    TEXT    NOT NULL, -- asks, running, paused, stopped, stuck, done or superseded
    why      TEXT    NOT NULL DEFAULT '',
    ended    TEXT    NOT NULL DEFAULT '',
    body     BLOB    NOT NULL  -- JSON
) STRICT;

CREATE TABLE plan_write (
    plan    INTEGER NOT NULL REFERENCES plan (id),
    number  INTEGER NOT NULL,
    state   TEXT    NOT NULL, -- waiting, retrying, refused, changed or done
    tries   INTEGER NOT NULL DEFAULT 0,
    why     TEXT    NOT NULL DEFAULT '',
    version TEXT    NOT NULL DEFAULT '',
    at      TEXT    NOT NULL DEFAULT '', -- of the last try
    PRIMARY KEY (plan, number)
) STRICT, WITHOUT ROWID;

-- Rounds of test packets, kept as evidence.
CREATE TABLE round (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    revision INTEGER NOT NULL,
    plan     INTEGER NOT NULL DEFAULT 0,
    actor    TEXT    NOT NULL,
    at       TEXT    NOT NULL,
    sent     INTEGER NOT NULL,
    wrong    INTEGER NOT NULL,
    body     BLOB    NOT NULL -- JSON
) STRICT;

-- +goose Down
DROP TABLE round;
DROP TABLE plan_write;
DROP TABLE plan;
DROP TABLE in_force;
