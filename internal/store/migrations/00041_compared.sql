-- +goose Up
-- What two sources have, as it was when the kept answer of the same two was found.
CREATE TABLE compared (
  a        bigint NOT NULL, -- acquisitions
  b        bigint NOT NULL,
  side     smallint NOT NULL, -- 0 both have it, 1 the first alone, 2 the second alone
  at       timestamptz NOT NULL,
  id       bigint NOT NULL, -- its record: that of the first, if both have it
  other    bigint, -- and that of the second. They may have left the case since, as in record_went
  kind     text NOT NULL
);
CREATE INDEX compared_time ON compared (a, b, at, id) INCLUDE (side, kind);
-- How much of it is of each hour, as in record_hour.
CREATE TABLE compared_hour (
  a    bigint NOT NULL,
  b    bigint NOT NULL,
  at   timestamptz NOT NULL,
  side smallint NOT NULL,
  kind text NOT NULL,
  n    bigint NOT NULL
);
CREATE INDEX compared_hour_time ON compared_hour (a, b, at);
-- What was compared is asked for at once, before the database has looked at it by itself.
-- +goose StatementBegin
CREATE FUNCTION analyze_compared() RETURNS void LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
BEGIN
  ANALYZE compared;
END $$;
-- +goose StatementEnd
CREATE INDEX compared_alone ON compared (a, b, side, at, id) INCLUDE (kind) WHERE side > 0;

-- A comparison stands until records of its two sources change.
ALTER TABLE case_change ADD COLUMN acquisition_id bigint;
DROP INDEX case_change_case;
CREATE INDEX case_change_case ON case_change (case_id, acquisition_id);

-- +goose StatementBegin
CREATE OR REPLACE FUNCTION change_records() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP <> 'DELETE' THEN
    INSERT INTO case_change(case_id, acquisition_id) SELECT DISTINCT case_id, acquisition_id FROM came;
  ELSE
    INSERT INTO case_change(case_id, acquisition_id) SELECT DISTINCT case_id, acquisition_id FROM went;
  END IF;
  RETURN NULL;
END $$;
-- +goose StatementEnd

-- +goose Down
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION change_records() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP <> 'DELETE' THEN
    INSERT INTO case_change(case_id) SELECT DISTINCT case_id FROM came;
  ELSE
    INSERT INTO case_change(case_id) SELECT DISTINCT case_id FROM went;
  END IF;
  RETURN NULL;
END $$;
-- +goose StatementEnd
DROP INDEX case_change_case;
ALTER TABLE case_change DROP COLUMN acquisition_id;
CREATE INDEX case_change_case ON case_change (case_id);
DROP FUNCTION analyze_compared;
DROP TABLE compared, compared_hour;
