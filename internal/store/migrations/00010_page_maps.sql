-- +goose Up
-- What each page of a database is for, and what was recovered there: eight bytes a
-- page, see docs/formats.md.
CREATE TABLE page_map (
  recovery_id bigint NOT NULL REFERENCES recovery ON DELETE CASCADE,
  path        text NOT NULL,
  page_size   integer NOT NULL,
  pages       bigint NOT NULL,
  cells       bytea NOT NULL,
  tables      text[] NOT NULL,
  tally       jsonb NOT NULL,
  PRIMARY KEY (recovery_id, path)
);
-- Recovered rows, as far as they are listed: see recovery.maxListed.
CREATE TABLE found_row (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  recovery_id bigint NOT NULL REFERENCES recovery ON DELETE CASCADE,
  path        text NOT NULL,
  part        smallint NOT NULL,
  page        bigint NOT NULL,
  frame       bigint NOT NULL,
  at          bigint NOT NULL,
  length      integer NOT NULL,
  origin      text NOT NULL,
  tab         text NOT NULL,
  row_id      bigint,
  confidence  real NOT NULL,
  uncommitted boolean NOT NULL,
  uid         text NOT NULL,
  fields      jsonb NOT NULL
);
CREATE INDEX found_row_page ON found_row (recovery_id, path, page);
CREATE INDEX record_page ON record (acquisition_id, ((body->'origin'->>'page')::bigint));

-- +goose Down
DROP INDEX record_page;
DROP TABLE found_row, page_map;
