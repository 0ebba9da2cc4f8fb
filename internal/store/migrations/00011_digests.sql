-- +goose Up
-- Digests of documents are made otherwise than before: they are worked out anew from the documents.
UPDATE in_force SET hash = '';

-- +goose Down
UPDATE in_force SET hash = '';
