-- +goose Up
-- What a draft did when it was last looked at, to tell when that becomes another by what others apply.
CREATE TABLE draft_effect (
    draft INTEGER PRIMARY KEY REFERENCES draft (id) ON DELETE CASCADE,
    body  BLOB NOT NULL -- JSON
) STRICT;

-- +goose Down
DROP TABLE draft_effect;
