-- +goose Up
-- Counts that have come to nothing are looked for where records went: reading all counts of a case for it, after
-- every file that was read, took longer than the reading.
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION count_hours() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP <> 'DELETE' THEN
    INSERT INTO record_hour AS h SELECT case_id, exhibit_id, kind, state, coalesce(date_trunc('hour', at, 'UTC'), '-infinity'), count(*) FROM came GROUP BY 1, 2, 3, 4, 5 ORDER BY 1, 2, 3, 4, 5
      ON CONFLICT (case_id, at, exhibit_id, kind, state) DO UPDATE SET n = h.n + excluded.n;
  END IF;
  IF TG_OP <> 'INSERT' THEN
    UPDATE record_hour h SET n = h.n - w.n
      FROM (SELECT case_id, exhibit_id, kind, state, coalesce(date_trunc('hour', at, 'UTC'), '-infinity') AS at, count(*) AS n FROM went GROUP BY 1, 2, 3, 4, 5) w
      WHERE (h.case_id, h.at, h.exhibit_id, h.kind, h.state) = (w.case_id, w.at, w.exhibit_id, w.kind, w.state);
    DELETE FROM record_hour h USING (SELECT DISTINCT case_id, exhibit_id, kind, state, coalesce(date_trunc('hour', at, 'UTC'), '-infinity') AS at FROM went) w
      WHERE (h.case_id, h.at, h.exhibit_id, h.kind, h.state) = (w.case_id, w.at, w.exhibit_id, w.kind, w.state) AND h.n = 0;
  END IF;
  RETURN NULL;
END $$;
-- +goose StatementEnd

-- +goose StatementBegin
CREATE OR REPLACE FUNCTION count_parties() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP <> 'DELETE' THEN
    INSERT INTO record_party AS p SELECT case_id, exhibit_id, h, count(*) FROM came, unnest(parties) h GROUP BY 1, 2, 3 ORDER BY 1, 2, 3
      ON CONFLICT (case_id, handle, exhibit_id) DO UPDATE SET n = p.n + excluded.n;
  END IF;
  IF TG_OP <> 'INSERT' THEN
    UPDATE record_party p SET n = p.n - w.n FROM (SELECT case_id, exhibit_id, h, count(*) AS n FROM went, unnest(parties) h GROUP BY 1, 2, 3) w
      WHERE (p.case_id, p.exhibit_id, p.handle) = (w.case_id, w.exhibit_id, w.h);
    DELETE FROM record_party p USING (SELECT DISTINCT case_id, exhibit_id, h FROM went, unnest(parties) h) w
      WHERE (p.case_id, p.exhibit_id, p.handle) = (w.case_id, w.exhibit_id, w.h) AND p.n = 0;
  END IF;
  RETURN NULL;
END $$;
-- +goose StatementEnd

-- +goose StatementBegin
CREATE OR REPLACE FUNCTION count_months() RETURNS trigger LANGUAGE plpgsql AS $$
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
    DELETE FROM record_month m USING (SELECT DISTINCT case_id, date_trunc('month', at, 'UTC') AS month, month_key(exhibit_id, acquisition_id, db, thread, kind, state, direction, parties) AS key
        FROM went WHERE at IS NOT NULL AND (thread <> '' OR parties <> '{}')) w
      WHERE (m.case_id, m.month, m.key) = (w.case_id, w.month, w.key) AND m.n = 0;
  END IF;
  RETURN NULL;
END $$;
-- +goose StatementEnd

-- What has just been read is asked for at once: until the database had looked at it by itself, it took the records for a
-- few, and looked for each of them among all others. Words are left to it, since these take longest.
-- +goose StatementBegin
CREATE FUNCTION analyze_records() RETURNS void LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
BEGIN
  ANALYZE record (case_id, exhibit_id, acquisition_id, kind, state, at, db, tab, row_id, thread, place);
  ANALYZE record_hour, record_month, recovered_database;
END $$;
-- +goose StatementEnd

-- +goose Down
DROP FUNCTION analyze_records;
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION count_hours() RETURNS trigger LANGUAGE plpgsql AS $$
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

-- +goose StatementBegin
CREATE OR REPLACE FUNCTION count_parties() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP <> 'DELETE' THEN
    INSERT INTO record_party AS p SELECT case_id, exhibit_id, h, count(*) FROM came, unnest(parties) h GROUP BY 1, 2, 3 ORDER BY 1, 2, 3
      ON CONFLICT (case_id, handle, exhibit_id) DO UPDATE SET n = p.n + excluded.n;
  END IF;
  IF TG_OP <> 'INSERT' THEN
    UPDATE record_party p SET n = p.n - w.n FROM (SELECT case_id, exhibit_id, h, count(*) AS n FROM went, unnest(parties) h GROUP BY 1, 2, 3) w
      WHERE (p.case_id, p.exhibit_id, p.handle) = (w.case_id, w.exhibit_id, w.h);
    DELETE FROM record_party WHERE n = 0 AND case_id IN (SELECT case_id FROM went);
  END IF;
  RETURN NULL;
END $$;
-- +goose StatementEnd

-- +goose StatementBegin
CREATE OR REPLACE FUNCTION count_months() RETURNS trigger LANGUAGE plpgsql AS $$
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
