-- +goose Up
-- Field maps that readings used, by the SHA-256 of their files: packages carry them.
CREATE TABLE field_map (
  sha256 text PRIMARY KEY,
  source text NOT NULL            -- the file
);
ALTER TABLE recovered_database ADD COLUMN map_sha256 text NOT NULL DEFAULT '';
-- What earlier versions kept of a record is less than what is compared before it is sealed.
UPDATE recovery SET scope_epoch = 0;

-- +goose Down
ALTER TABLE recovered_database DROP COLUMN map_sha256;
DROP TABLE field_map;
