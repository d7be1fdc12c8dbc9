-- +goose Up
-- How much each acquisition has of each kind and state, and how much of it with a time, kept by the database itself: every
-- page of a case asks, and to add up its hours took a tenth of a second of a million records.
CREATE TABLE record_sum (
  case_id        bigint NOT NULL,
  exhibit_id     bigint NOT NULL,
  acquisition_id bigint NOT NULL,
  kind           text NOT NULL,
  state          text NOT NULL,
  n              bigint NOT NULL,
  timed          bigint NOT NULL,
  PRIMARY KEY (case_id, exhibit_id, acquisition_id, kind, state)
);
INSERT INTO record_sum SELECT case_id, exhibit_id, acquisition_id, kind, state, count(*), count(at) FROM record GROUP BY 1, 2, 3, 4, 5;

-- +goose StatementBegin
CREATE FUNCTION count_sums() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP <> 'DELETE' THEN
    INSERT INTO record_sum AS s SELECT case_id, exhibit_id, acquisition_id, kind, state, count(*), count(at) FROM came GROUP BY 1, 2, 3, 4, 5 ORDER BY 1, 2, 3, 4, 5
      ON CONFLICT (case_id, exhibit_id, acquisition_id, kind, state) DO UPDATE SET n = s.n + excluded.n, timed = s.timed + excluded.timed;
  END IF;
  IF TG_OP <> 'INSERT' THEN
    UPDATE record_sum s SET n = s.n - w.n, timed = s.timed - w.timed
      FROM (SELECT case_id, exhibit_id, acquisition_id, kind, state, count(*) AS n, count(at) AS timed FROM went GROUP BY 1, 2, 3, 4, 5) w
      WHERE (s.case_id, s.exhibit_id, s.acquisition_id, s.kind, s.state) = (w.case_id, w.exhibit_id, w.acquisition_id, w.kind, w.state);
    DELETE FROM record_sum WHERE n = 0 AND case_id IN (SELECT case_id FROM went);
  END IF;
  RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER sums_come AFTER INSERT ON record REFERENCING NEW TABLE AS came FOR EACH STATEMENT EXECUTE FUNCTION count_sums();
CREATE TRIGGER sums_change AFTER UPDATE ON record REFERENCING OLD TABLE AS went NEW TABLE AS came FOR EACH STATEMENT EXECUTE FUNCTION count_sums();
CREATE TRIGGER sums_go AFTER DELETE ON record REFERENCING OLD TABLE AS went FOR EACH STATEMENT EXECUTE FUNCTION count_sums();
DROP INDEX IF EXISTS record_hour_exhibit;

-- And how many records of each exhibit are marked.
CREATE TABLE mark_sum (
  exhibit_id bigint PRIMARY KEY REFERENCES exhibit,
  n          bigint NOT NULL
);
INSERT INTO mark_sum SELECT r.exhibit_id, count(*) FROM mark m JOIN record r ON r.id = m.record_id GROUP BY 1;

-- +goose StatementBegin
CREATE FUNCTION count_marks() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP = 'INSERT' THEN
    INSERT INTO mark_sum AS s SELECT r.exhibit_id, count(*) FROM came m JOIN record r ON r.id = m.record_id GROUP BY 1 ORDER BY 1
      ON CONFLICT (exhibit_id) DO UPDATE SET n = s.n + excluded.n;
  ELSE -- a record stays as long as its mark
    UPDATE mark_sum s SET n = s.n - w.n FROM (SELECT r.exhibit_id, count(*) AS n FROM went m JOIN record r ON r.id = m.record_id GROUP BY 1) w WHERE s.exhibit_id = w.exhibit_id;
  END IF;
  RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER sums_come AFTER INSERT ON mark REFERENCING NEW TABLE AS came FOR EACH STATEMENT EXECUTE FUNCTION count_marks();
CREATE TRIGGER sums_go AFTER DELETE ON mark REFERENCING OLD TABLE AS went FOR EACH STATEMENT EXECUTE FUNCTION count_marks();

-- +goose Down
CREATE INDEX record_hour_exhibit ON record_hour (exhibit_id) INCLUDE (state, n);
DROP FUNCTION count_sums CASCADE;
DROP FUNCTION count_marks CASCADE;
DROP TABLE record_sum, mark_sum;
