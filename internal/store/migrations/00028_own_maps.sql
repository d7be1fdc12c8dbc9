-- +goose Up
-- Field maps that were made in a case: the newest of a database's path is used for it.
CREATE TABLE own_map (
  id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  case_id bigint NOT NULL REFERENCES cases,
  path    text NOT NULL, -- of the database
  sha256  text NOT NULL REFERENCES field_map,
  by      text NOT NULL,
  at      timestamptz NOT NULL
);
CREATE INDEX own_map_path ON own_map (case_id, path, id);

-- +goose Down
DROP TABLE own_map;
