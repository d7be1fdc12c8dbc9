-- +goose Up
-- What the tool was measured to do, by the build that was measured.
CREATE TABLE validation (
  id     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  build  text NOT NULL, -- SHA-256 of the program, hex
  body   text NOT NULL, -- JSON
  sha256 text NOT NULL, -- of that, hex
  by     text NOT NULL,
  at     timestamptz NOT NULL
);
CREATE INDEX validation_build ON validation (build, id);

-- +goose Down
DROP TABLE validation;
