-- +goose Up
-- One row for each change of what the questions of a case are answered from: an answer that is kept holds while there are no more.
CREATE TABLE case_change (
  id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  case_id bigint NOT NULL
);
CREATE INDEX case_change_case ON case_change (case_id);

-- What takes long to find, of a case as it was when so many changes of it were there.
CREATE TABLE kept_answer (
  case_id bigint NOT NULL REFERENCES cases,
  about   text NOT NULL,
  changes bigint NOT NULL,
  body    jsonb NOT NULL,
  PRIMARY KEY (case_id, about)
);

-- Between when what records tell of was deleted, of those of which something says that it was. They may have left the case since:
-- to hold them would keep their exhibit from being read.
CREATE TABLE record_went (
  record_id bigint PRIMARY KEY,
  case_id   bigint NOT NULL,
  after     timestamptz NOT NULL, -- -infinity if nothing says after when
  before    timestamptz NOT NULL
);
CREATE INDEX record_went_case ON record_went (case_id, before, after) INCLUDE (record_id);

-- +goose StatementBegin
CREATE FUNCTION change_records() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP <> 'DELETE' THEN
    INSERT INTO case_change(case_id) SELECT DISTINCT case_id FROM came;
  ELSE
    INSERT INTO case_change(case_id) SELECT DISTINCT case_id FROM went;
  END IF;
  RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER changes_come AFTER INSERT ON record REFERENCING NEW TABLE AS came FOR EACH STATEMENT EXECUTE FUNCTION change_records();
CREATE TRIGGER changes_change AFTER UPDATE ON record REFERENCING NEW TABLE AS came FOR EACH STATEMENT EXECUTE FUNCTION change_records();
CREATE TRIGGER changes_go AFTER DELETE ON record REFERENCING OLD TABLE AS went FOR EACH STATEMENT EXECUTE FUNCTION change_records();

-- +goose StatementBegin
CREATE FUNCTION change_case() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  CASE TG_TABLE_NAME
    WHEN 'cases' THEN INSERT INTO case_change(case_id) VALUES (NEW.id);
    WHEN 'acquisition' THEN INSERT INTO case_change(case_id) VALUES (NEW.case_id);
    WHEN 'recovery' THEN INSERT INTO case_change(case_id) SELECT case_id FROM acquisition WHERE id = NEW.acquisition_id;
    ELSE INSERT INTO case_change(case_id) SELECT a.case_id FROM recovery v JOIN acquisition a ON a.id = v.acquisition_id WHERE v.id = NEW.recovery_id;
  END CASE;
  RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER changes AFTER UPDATE OF scope_epoch ON cases FOR EACH ROW EXECUTE FUNCTION change_case();
CREATE TRIGGER changes AFTER INSERT OR UPDATE OF facts, ended_at ON acquisition FOR EACH ROW EXECUTE FUNCTION change_case();
CREATE TRIGGER changes AFTER INSERT OR UPDATE ON recovery FOR EACH ROW EXECUTE FUNCTION change_case();
CREATE TRIGGER changes AFTER INSERT OR UPDATE ON recovered_database FOR EACH ROW EXECUTE FUNCTION change_case();

-- +goose Down
DROP TRIGGER changes ON recovered_database;
DROP TRIGGER changes ON recovery;
DROP TRIGGER changes ON acquisition;
DROP TRIGGER changes ON cases;
DROP TRIGGER changes_go ON record;
DROP TRIGGER changes_change ON record;
DROP TRIGGER changes_come ON record;
DROP FUNCTION change_case;
DROP FUNCTION change_records;
DROP TABLE record_went;
DROP TABLE kept_answer;
DROP TABLE case_change;
