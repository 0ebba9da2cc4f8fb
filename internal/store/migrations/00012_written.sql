-- +goose Up
-- Whether Bivium has written a document, or only found it as it should be.
ALTER TABLE in_force ADD COLUMN written INTEGER NOT NULL DEFAULT 0;
UPDATE in_force SET written = 1 WHERE EXISTS (SELECT 1 FROM plan_write WHERE state = 'done');

-- +goose Down
ALTER TABLE in_force DROP COLUMN written;
