-- +goose Up
-- When drafts may be applied: in a window, and in no freeze. Times are of the day in a zone.
CREATE TABLE change_window (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    segment TEXT NOT NULL DEFAULT '', -- '' for all
    days    TEXT NOT NULL DEFAULT '', -- of a window: mon to sun, blanks between
    opens   TEXT NOT NULL DEFAULT '', -- of a window: 22:00
    closes  TEXT NOT NULL DEFAULT '', -- before it opens: on the next day
    zone    TEXT NOT NULL DEFAULT 'UTC',
    first   TEXT NOT NULL DEFAULT '', -- of a freeze: the first day, 2026-12-20
    last    TEXT NOT NULL DEFAULT '', -- and the last
    why     TEXT NOT NULL DEFAULT ''
) STRICT;

-- +goose Down
DROP TABLE change_window;
