-- +goose Up
-- Narrow rows, that are scanned, apart from whole records, that are opened; and the words that
-- a record is found by, as package search writes them. A step in Go fills both (see migrate.go).
CREATE TABLE record_whole (
  record_id bigint PRIMARY KEY, -- a record's, with which it goes
  body      text NOT NULL       -- JSON; as text, since PostgreSQL takes longer to read it than all else of a record
);
ALTER TABLE record
  ADD COLUMN words text NOT NULL DEFAULT '',
  ADD COLUMN field_map text NOT NULL DEFAULT '',
  ADD COLUMN tab text NOT NULL DEFAULT '', -- of its first origin: table, row id and page
  ADD COLUMN row_id text,
  ADD COLUMN page bigint NOT NULL DEFAULT 0;
-- +goose StatementBegin
CREATE FUNCTION lexemes(words text) RETURNS tsvector LANGUAGE plpgsql IMMUTABLE PARALLEL SAFE COST 2000 AS $$
BEGIN -- in no function of SQL: a plan that works this out for every record must seem as dear as it is
  RETURN array_to_tsvector(array_remove(array_remove(string_to_array(words, ' '), '|'), ''));
END $$;
-- +goose StatementEnd

-- What records name is asked once a statement: asked of each, it took most of the time of keeping them.
ALTER TABLE record DROP CONSTRAINT record_case_id_fkey, DROP CONSTRAINT record_exhibit_id_fkey, DROP CONSTRAINT record_acquisition_id_fkey,
  DROP CONSTRAINT record_recovery_id_fkey;
-- +goose StatementBegin
CREATE FUNCTION records_belong() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE x record;
BEGIN
  FOR x IN SELECT DISTINCT case_id, exhibit_id, acquisition_id, recovery_id FROM came LOOP
    PERFORM FROM cases c JOIN exhibit e ON e.case_id = c.id JOIN acquisition a ON a.exhibit_id = e.id
      WHERE c.id = x.case_id AND e.id = x.exhibit_id AND a.id = x.acquisition_id FOR KEY SHARE;
    IF NOT FOUND OR x.recovery_id IS NOT NULL AND NOT EXISTS (SELECT FROM recovery v WHERE v.id = x.recovery_id AND v.acquisition_id = x.acquisition_id) THEN
      RAISE EXCEPTION 'a record is of case %, exhibit %, acquisition % and recovery %, which are not there or not of each other', x.case_id, x.exhibit_id, x.acquisition_id, x.recovery_id
        USING ERRCODE = 'foreign_key_violation';
    END IF;
  END LOOP;
  RETURN NULL;
END $$;
CREATE FUNCTION records_go() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  DELETE FROM record_whole w USING went WHERE w.record_id = went.id;
  RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER belong_come AFTER INSERT ON record REFERENCING NEW TABLE AS came FOR EACH STATEMENT EXECUTE FUNCTION records_belong();
CREATE TRIGGER belong_change AFTER UPDATE ON record REFERENCING NEW TABLE AS came FOR EACH STATEMENT EXECUTE FUNCTION records_belong();
CREATE TRIGGER whole_go AFTER DELETE ON record REFERENCING OLD TABLE AS went FOR EACH STATEMENT EXECUTE FUNCTION records_go();

-- +goose Down
DROP TRIGGER whole_go ON record;
DROP TRIGGER belong_change ON record;
DROP TRIGGER belong_come ON record;
DROP FUNCTION records_go;
DROP FUNCTION records_belong;
ALTER TABLE record ADD FOREIGN KEY (case_id) REFERENCES cases, ADD FOREIGN KEY (exhibit_id) REFERENCES exhibit, ADD FOREIGN KEY (acquisition_id) REFERENCES acquisition,
  ADD FOREIGN KEY (recovery_id) REFERENCES recovery;
DROP FUNCTION lexemes;
ALTER TABLE record DROP COLUMN words, DROP COLUMN field_map, DROP COLUMN tab, DROP COLUMN row_id, DROP COLUMN page;
DROP TABLE record_whole;
