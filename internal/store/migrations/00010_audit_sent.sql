-- +goose Up
-- Up to which entry the audit log was sent on.
CREATE TABLE audit_sent (
    one    INTEGER PRIMARY KEY CHECK (one = 1),
    number INTEGER NOT NULL
) STRICT;

-- +goose Down
DROP TABLE audit_sent;
