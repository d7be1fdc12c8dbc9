-- +goose Up
-- Which route was chosen for an exhibit, and why another than was proposed.
CREATE TABLE route_choice (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  exhibit_id bigint NOT NULL REFERENCES exhibit,
  route      text NOT NULL,
  proposed   text NOT NULL,
  reason     text NOT NULL CHECK (reason <> '' OR route = proposed),
  answers    jsonb NOT NULL,
  by         text NOT NULL,
  at         timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX route_choice_exhibit ON route_choice (exhibit_id, id DESC);

-- +goose Down
DROP TABLE route_choice;
