-- +goose Up
-- A report that is signed is kept as it prints, too, where that can be set.
ALTER TABLE report_step ADD COLUMN pdf bytea, ADD COLUMN pdf_sha256 text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE report_step DROP COLUMN pdf, DROP COLUMN pdf_sha256;
