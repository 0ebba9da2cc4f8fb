-- +goose Up
-- Edits of one thing and larger steps had a history each.
INSERT INTO revision (number, at, actor, what) SELECT revision, at, actor, 'edit' FROM edit;
INSERT INTO step (revision, list, key, before, after) SELECT revision, list, key, before, after FROM edit;
DROP TRIGGER edit_stays;
DROP TRIGGER edit_remains;
DROP TABLE edit;

-- +goose StatementBegin
CREATE TRIGGER revision_stays BEFORE UPDATE ON revision BEGIN
    SELECT RAISE(ABORT, 'the history of edits cannot be changed');
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER revision_remains BEFORE DELETE ON revision BEGIN
    SELECT RAISE(ABORT, 'the history of edits cannot be changed');
END;
-- +goose StatementEnd

-- Things that could not be read when the database was opened, until somebody repairs or
-- removes them.
CREATE TABLE aside (
    id   INTEGER PRIMARY KEY,
    list TEXT NOT NULL,
    key  TEXT NOT NULL,
    body BLOB NOT NULL,
    why  TEXT NOT NULL,
    at   TEXT NOT NULL -- RFC 3339, UTC
) STRICT;

-- +goose Down
DROP TABLE aside;
DROP TRIGGER revision_remains;
DROP TRIGGER revision_stays;
CREATE TABLE edit (
    revision INTEGER PRIMARY KEY, at TEXT NOT NULL, actor TEXT NOT NULL, list TEXT NOT NULL, key TEXT NOT NULL,
    before BLOB NOT NULL, after BLOB NOT NULL
) STRICT;
-- +goose StatementBegin
CREATE TRIGGER edit_stays BEFORE UPDATE ON edit BEGIN SELECT RAISE(ABORT, 'the history of edits cannot be changed'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER edit_remains BEFORE DELETE ON edit BEGIN SELECT RAISE(ABORT, 'the history of edits cannot be changed'); END;
-- +goose StatementEnd
