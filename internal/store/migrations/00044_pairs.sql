-- +goose Up
-- What two sources have is read as a whole, and held in memory: it is kept so, too.
DROP TABLE compared, compared_hour;
DROP FUNCTION analyze_compared;
CREATE TABLE compared (
  a     bigint NOT NULL, -- acquisitions
  b     bigint NOT NULL,
  side  smallint NOT NULL, -- 0 both have it, 1 the first alone, 2 the second alone
  at    bytea NOT NULL, -- of each record when it was, as timestamptz_send writes it
  id    bytea NOT NULL, -- its number, as int8send does: that of the first, if both have it
  other bytea NOT NULL, -- and that of the second, or 0. They may have left the case since, as in record_went
  kind  bytea NOT NULL, -- and which of the kinds that both have it is of, from 0 on
  PRIMARY KEY (a, b, side)
);
ALTER TABLE compared ALTER at SET STORAGE EXTERNAL, ALTER id SET STORAGE EXTERNAL, ALTER other SET STORAGE EXTERNAL;
DELETE FROM kept_answer WHERE about LIKE 'comparing acquisitions %';

-- +goose Down
DROP TABLE compared;
DELETE FROM kept_answer WHERE about LIKE 'comparing acquisitions %';
CREATE TABLE compared (
  a        bigint NOT NULL,
  b        bigint NOT NULL,
  side     smallint NOT NULL,
  at       timestamptz NOT NULL,
  id       bigint NOT NULL,
  other    bigint,
  kind     text NOT NULL
);
CREATE INDEX compared_time ON compared (a, b, at, id) INCLUDE (side, kind);
CREATE INDEX compared_alone ON compared (a, b, side, at, id) INCLUDE (kind) WHERE side > 0;
CREATE TABLE compared_hour (
  a    bigint NOT NULL,
  b    bigint NOT NULL,
  at   timestamptz NOT NULL,
  side smallint NOT NULL,
  kind text NOT NULL,
  n    bigint NOT NULL
);
CREATE INDEX compared_hour_time ON compared_hour (a, b, at);
-- +goose StatementBegin
CREATE FUNCTION analyze_compared() RETURNS void LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
BEGIN
  ANALYZE compared;
END $$;
-- +goose StatementEnd
