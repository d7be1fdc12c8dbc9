-- +goose Up
-- What the numbers of each table's rows say of rows that are gone.
ALTER TABLE recovered_database ADD COLUMN gaps jsonb NOT NULL DEFAULT '[]';

-- +goose Down
ALTER TABLE recovered_database DROP COLUMN gaps;
