-- +goose Up
-- Where in a storage image a file lies, and how it was found there.
ALTER TABLE acquired_file ADD COLUMN found jsonb;

-- +goose Down
ALTER TABLE acquired_file DROP COLUMN found;
