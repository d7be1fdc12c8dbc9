-- +goose Up
CREATE TABLE photograph (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  exhibit_id bigint NOT NULL REFERENCES exhibit,
  sha256     text NOT NULL,
  type       text NOT NULL,
  size       bigint NOT NULL,
  note       text NOT NULL,
  by         text NOT NULL,
  at         timestamptz NOT NULL,
  UNIQUE (exhibit_id, sha256)
);

-- +goose Down
DROP TABLE photograph;
