-- +goose Up
CREATE TABLE draft (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    name     TEXT    NOT NULL,
    reason   TEXT    NOT NULL DEFAULT '',
    ticket   TEXT    NOT NULL DEFAULT '',
    state    TEXT    NOT NULL,           -- open, review, approved, applied or discarded
    based    INTEGER NOT NULL,           -- the revision on which its steps stand
    author   TEXT    NOT NULL,           -- who began it
    made     TEXT    NOT NULL,           -- RFC 3339, UTC
    changed  TEXT    NOT NULL,
    revision INTEGER NOT NULL DEFAULT 0, -- that it was applied as
    undoes   INTEGER NOT NULL DEFAULT 0  -- the revision that it rolls back
) STRICT;

-- What was added at once; those undone come last, until another one is added.
CREATE TABLE draft_step (
    draft   INTEGER NOT NULL REFERENCES draft (id),
    number  INTEGER NOT NULL, -- from 1
    author  TEXT    NOT NULL,
    at      TEXT    NOT NULL,
    seen    INTEGER NOT NULL, -- the revision of the estate that its author saw
    settled TEXT    NOT NULL DEFAULT '', -- who settled a conflict of it
    undone  INTEGER NOT NULL DEFAULT 0,
    body    BLOB    NOT NULL, -- operations with their bases, JSON
    PRIMARY KEY (draft, number)
) STRICT, WITHOUT ROWID;

CREATE TABLE approval (
    draft   INTEGER NOT NULL REFERENCES draft (id),
    segment TEXT    NOT NULL,
    person  TEXT    NOT NULL,
    at      TEXT    NOT NULL,
    classes BLOB    NOT NULL, -- JSON: the classes of change that were approved
    why     TEXT    NOT NULL DEFAULT '', -- why it stands no more; '' while it does
    PRIMARY KEY (draft, segment, person, at)
) STRICT, WITHOUT ROWID;

CREATE TABLE comment (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    draft    INTEGER NOT NULL REFERENCES draft (id),
    about    TEXT    NOT NULL, -- '' for the draft, else an object or a flow group
    author   TEXT    NOT NULL,
    at       TEXT    NOT NULL,
    text     TEXT    NOT NULL,
    resolved TEXT    NOT NULL DEFAULT '' -- by whom
) STRICT;

-- What is known of a revision beside what it changed.
ALTER TABLE revision ADD COLUMN note BLOB; -- JSON: draft, reason, approvals, emergency

CREATE TABLE later_review ( -- of what was applied without approval
    revision INTEGER PRIMARY KEY REFERENCES revision (number),
    person   TEXT NOT NULL,
    at       TEXT NOT NULL
) STRICT;

-- +goose Down
DROP TABLE later_review;
ALTER TABLE revision DROP COLUMN note;
DROP TABLE comment;
DROP TABLE approval;
DROP TABLE draft_step;
DROP TABLE draft;
