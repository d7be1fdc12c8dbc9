-- +goose Up
-- The records that a package speaks of, since a redacted one does not hold them: NULL of those of earlier versions, which do.
ALTER TABLE package ADD COLUMN records bigint[];

-- +goose Down
ALTER TABLE package DROP COLUMN records;
