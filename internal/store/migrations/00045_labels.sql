-- +goose Up
-- What a mark is of, in a word or two; '' if that is not said.
ALTER TABLE mark ADD COLUMN label text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE mark DROP COLUMN label;
