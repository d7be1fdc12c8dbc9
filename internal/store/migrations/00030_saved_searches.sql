-- +goose Up
-- What was filtered, under a name: the query of an address of Examine.
CREATE TABLE saved_search (
  id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  case_id bigint NOT NULL REFERENCES cases,
  name    text NOT NULL CHECK (name <> ''),
  query   text NOT NULL,
  by      text NOT NULL,
  at      timestamptz NOT NULL DEFAULT now(),
  UNIQUE (case_id, name)
);

-- +goose Down
DROP TABLE saved_search;
