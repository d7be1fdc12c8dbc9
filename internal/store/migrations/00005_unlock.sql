-- +goose Up
-- The content of the files of an encrypted acquisition, once it was unlocked.
ALTER TABLE acquisition ADD COLUMN unlocked_at timestamptz, ADD COLUMN content_manifest text NOT NULL DEFAULT '';
CREATE TABLE content_file (
  acquisition_id bigint NOT NULL REFERENCES acquisition,
  path           text NOT NULL,            -- of the encrypted file, below the source folder
  real_path      text NOT NULL,
  size           bigint NOT NULL,
  md5            text NOT NULL,
  sha1           text NOT NULL,
  sha256         text NOT NULL,
  modified_at    timestamptz,
  PRIMARY KEY (acquisition_id, path)
);

-- +goose Down
DROP TABLE content_file;
ALTER TABLE acquisition DROP COLUMN unlocked_at, DROP COLUMN content_manifest;
