-- +goose Up
-- How many records name a handle, kept by the database itself; a person's records by an index; and what was
-- decided about persons. Rulings tell handles by their SHA-256: what is withheld later is kept nowhere.
CREATE TABLE record_party (
  case_id    bigint NOT NULL,
  exhibit_id bigint NOT NULL,
  handle     text NOT NULL, -- in normal form
  n          bigint NOT NULL,
  PRIMARY KEY (case_id, handle, exhibit_id)
);
INSERT INTO record_party SELECT case_id, exhibit_id, h, count(*) FROM record, unnest(parties) h GROUP BY 1, 2, 3;
CREATE INDEX record_parties ON record USING gin (parties);
CREATE INDEX record_kind ON record (case_id, kind, id);

-- +goose StatementBegin
CREATE FUNCTION count_parties() RETURNS trigger LANGUAGE plpgsql AS $$
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
CREATE TRIGGER parties_come AFTER INSERT ON record REFERENCING NEW TABLE AS came FOR EACH STATEMENT EXECUTE FUNCTION count_parties();
CREATE TRIGGER parties_change AFTER UPDATE ON record REFERENCING OLD TABLE AS went NEW TABLE AS came FOR EACH STATEMENT EXECUTE FUNCTION count_parties();
CREATE TRIGGER parties_go AFTER DELETE ON record REFERENCING OLD TABLE AS went FOR EACH STATEMENT EXECUTE FUNCTION count_parties();

CREATE TABLE person_ruling (
  id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  case_id bigint NOT NULL REFERENCES cases,
  apart   boolean NOT NULL,
  card    text NOT NULL, -- the contact's UID, '' of handles that are brought together
  handle  text NOT NULL, -- SHA-256, hex
  other   text NOT NULL,
  by      text NOT NULL,
  at      timestamptz NOT NULL,
  reason  text NOT NULL CHECK (reason <> ''),
  UNIQUE (case_id, card, handle, other)
);

-- +goose Down
DROP TABLE person_ruling;
DROP TRIGGER parties_go ON record;
DROP TRIGGER parties_change ON record;
DROP TRIGGER parties_come ON record;
DROP FUNCTION count_parties;
DROP INDEX record_parties, record_kind;
DROP TABLE record_party;
