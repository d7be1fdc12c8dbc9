-- +goose Up
-- What of a volume could not be read, a sector or a few at a time.
CREATE TABLE unread (
  acquisition_id bigint NOT NULL REFERENCES acquisition,
  path           text NOT NULL,
  from_byte      bigint NOT NULL,
  to_byte        bigint NOT NULL CHECK (to_byte > from_byte),
  PRIMARY KEY (acquisition_id, path, from_byte)
);

-- What was seen to be done on a connected handset, by both clocks.
CREATE TABLE handset_step (
  exhibit_id    bigint NOT NULL REFERENCES exhibit,
  serial        text NOT NULL,
  step          text NOT NULL,
  at            timestamptz NOT NULL DEFAULT now(),
  handset_clock timestamptz,
  note          text NOT NULL DEFAULT '',
  PRIMARY KEY (exhibit_id, serial, step)
);

-- +goose Down
DROP TABLE unread, handset_step;
