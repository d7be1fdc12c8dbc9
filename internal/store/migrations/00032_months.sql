-- +goose Up
-- How much each conversation and each set of parties has a month, kept by the database itself, of records with a time.
CREATE TABLE record_month (
  case_id        bigint NOT NULL,
  month          timestamptz NOT NULL, -- its beginning in UTC
  key            bytea NOT NULL,       -- SHA-256 of what follows but n: evidence can be longer than an index takes
  exhibit_id     bigint NOT NULL,
  acquisition_id bigint NOT NULL,
  db             text NOT NULL,
  thread         text NOT NULL,
  kind           text NOT NULL,
  state          text NOT NULL,
  direction      text NOT NULL,
  parties        text[],
  n              bigint NOT NULL,
  PRIMARY KEY (case_id, month, key)
);

-- +goose StatementBegin
CREATE FUNCTION month_key(exhibit bigint, acquisition bigint, db text, thread text, kind text, state text, direction text, parties text[]) RETURNS bytea
  LANGUAGE sql STABLE PARALLEL SAFE AS $$ SELECT sha256(convert_to(ROW(exhibit, acquisition, db, thread, kind, state, direction, parties)::text, 'UTF8')) $$;
-- +goose StatementEnd

-- +goose StatementBegin
CREATE FUNCTION count_months() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP <> 'DELETE' THEN
    INSERT INTO record_month AS m SELECT case_id, month, month_key(exhibit_id, acquisition_id, db, thread, kind, state, direction, parties), exhibit_id, acquisition_id, db, thread, kind, state, direction, parties, n
      FROM (SELECT case_id, date_trunc('month', at, 'UTC') AS month, exhibit_id, acquisition_id, db, thread, kind, state, direction, parties, count(*) AS n FROM came WHERE at IS NOT NULL AND (thread <> '' OR parties <> '{}') GROUP BY 1, 2, 3, 4, 5, 6, 7, 8, 9, 10) c
      ORDER BY 1, 2, 3 ON CONFLICT (case_id, month, key) DO UPDATE SET n = m.n + excluded.n;
  END IF;
  IF TG_OP <> 'INSERT' THEN
    UPDATE record_month m SET n = m.n - w.n
      FROM (SELECT case_id, month, month_key(exhibit_id, acquisition_id, db, thread, kind, state, direction, parties) AS key, n
        FROM (SELECT case_id, date_trunc('month', at, 'UTC') AS month, exhibit_id, acquisition_id, db, thread, kind, state, direction, parties, count(*) AS n FROM went WHERE at IS NOT NULL AND (thread <> '' OR parties <> '{}') GROUP BY 1, 2, 3, 4, 5, 6, 7, 8, 9, 10) g) w
      WHERE (m.case_id, m.month, m.key) = (w.case_id, w.month, w.key);
    DELETE FROM record_month WHERE n = 0 AND case_id IN (SELECT case_id FROM went);
  END IF;
  RETURN NULL;
END $$;
-- +goose StatementEnd
INSERT INTO record_month SELECT case_id, month, month_key(exhibit_id, acquisition_id, db, thread, kind, state, direction, parties), exhibit_id, acquisition_id, db, thread, kind, state, direction, parties, n
  FROM (SELECT case_id, date_trunc('month', at, 'UTC') AS month, exhibit_id, acquisition_id, db, thread, kind, state, direction, parties, count(*) AS n FROM record WHERE at IS NOT NULL AND (thread <> '' OR parties <> '{}') GROUP BY 1, 2, 3, 4, 5, 6, 7, 8, 9, 10) c;
CREATE TRIGGER months_come AFTER INSERT ON record REFERENCING NEW TABLE AS came FOR EACH STATEMENT EXECUTE FUNCTION count_months();
CREATE TRIGGER months_change AFTER UPDATE ON record REFERENCING OLD TABLE AS went NEW TABLE AS came FOR EACH STATEMENT EXECUTE FUNCTION count_months();
CREATE TRIGGER months_go AFTER DELETE ON record REFERENCING OLD TABLE AS went FOR EACH STATEMENT EXECUTE FUNCTION count_months();

-- +goose Down
DROP TRIGGER months_go ON record;
DROP TRIGGER months_change ON record;
DROP TRIGGER months_come ON record;
DROP FUNCTION count_months;
DROP FUNCTION month_key;
DROP TABLE record_month;
