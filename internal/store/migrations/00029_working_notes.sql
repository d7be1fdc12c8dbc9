-- +goose Up
-- What examiners note of a record for themselves: no report or package has it. It stays where the record goes, and is there
-- again when the record is.
CREATE TABLE working_note (
  acquisition_id bigint NOT NULL REFERENCES acquisition,
  uid            text NOT NULL, -- of the record
  by             text NOT NULL,
  at             timestamptz NOT NULL,
  body           text NOT NULL CHECK (body <> ''),
  PRIMARY KEY (acquisition_id, uid)
);

-- +goose Down
DROP TABLE working_note;
