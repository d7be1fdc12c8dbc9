-- +goose Up
-- How many records each hour has, kept by the database itself: what is without a time lies at -infinity.
CREATE TABLE record_hour (
  case_id    bigint NOT NULL,
  exhibit_id bigint NOT NULL,
  kind       text NOT NULL,
  state      text NOT NULL,
  at         timestamptz NOT NULL, -- the hour's beginning
  n          bigint NOT NULL,
  PRIMARY KEY (case_id, at, exhibit_id, kind, state)
);
CREATE INDEX record_hour_exhibit ON record_hour (exhibit_id) INCLUDE (state, n);
INSERT INTO record_hour SELECT case_id, exhibit_id, kind, state, coalesce(date_trunc('hour', at, 'UTC'), '-infinity'), count(*) FROM record GROUP BY 1, 2, 3, 4, 5;

-- +goose StatementBegin
CREATE FUNCTION count_hours() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP <> 'DELETE' THEN
    INSERT INTO record_hour AS h SELECT case_id, exhibit_id, kind, state, coalesce(date_trunc('hour', at, 'UTC'), '-infinity'), count(*) FROM came GROUP BY 1, 2, 3, 4, 5 ORDER BY 1, 2, 3, 4, 5
      ON CONFLICT (case_id, at, exhibit_id, kind, state) DO UPDATE SET n = h.n + excluded.n;
  END IF;
  IF TG_OP <> 'INSERT' THEN
    UPDATE record_hour h SET n = h.n - w.n
      FROM (SELECT case_id, exhibit_id, kind, state, coalesce(date_trunc('hour', at, 'UTC'), '-infinity') AS at, count(*) AS n FROM went GROUP BY 1, 2, 3, 4, 5) w
      WHERE (h.case_id, h.at, h.exhibit_id, h.kind, h.state) = (w.case_id, w.at, w.exhibit_id, w.kind, w.state);
    DELETE FROM record_hour WHERE n = 0 AND case_id IN (SELECT case_id FROM went);
  END IF;
  RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER hours_come AFTER INSERT ON record REFERENCING NEW TABLE AS came FOR EACH STATEMENT EXECUTE FUNCTION count_hours();
CREATE TRIGGER hours_change AFTER UPDATE ON record REFERENCING OLD TABLE AS went NEW TABLE AS came FOR EACH STATEMENT EXECUTE FUNCTION count_hours();
CREATE TRIGGER hours_go AFTER DELETE ON record REFERENCING OLD TABLE AS went FOR EACH STATEMENT EXECUTE FUNCTION count_hours();

-- +goose Down
DROP TRIGGER hours_go ON record;
DROP TRIGGER hours_change ON record;
DROP TRIGGER hours_come ON record;
DROP FUNCTION count_hours;
DROP TABLE record_hour;
