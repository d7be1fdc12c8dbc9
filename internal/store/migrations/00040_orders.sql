-- +goose Up
-- Lists in the orders of store.Orders, whose expressions these are: a page of a million records is read, and not sorted, then.
CREATE INDEX record_by_what ON record (case_id, (lower(left(summary, 100)) COLLATE "C"), at, id) WHERE at IS NOT NULL;
CREATE INDEX record_by_people ON record (case_id, (lower(left(coalesce(nullif(person, ''), handle), 100)) COLLATE "C"), at, id) WHERE at IS NOT NULL;
CREATE INDEX record_by_kind ON record (case_id, (kind COLLATE "C"), at, id) WHERE at IS NOT NULL;
CREATE INDEX record_by_file ON record (case_id, (left(db, 400) COLLATE "C"), at, id) WHERE at IS NOT NULL;
CREATE INDEX record_by_state ON record (case_id, ((state || ' ' || place) COLLATE "C"), at, id) WHERE at IS NOT NULL;
CREATE INDEX record_by_bytes ON record (case_id, (lpad(coalesce(bytes, 0)::text, 19, '0') COLLATE "C"), at, id) WHERE at IS NOT NULL;
-- What files of a size are counted by.
CREATE INDEX record_sized ON record (case_id, at, id) INCLUDE (bytes, kind, state, exhibit_id) WHERE bytes IS NOT NULL;
ANALYZE record;

-- +goose Down
DROP INDEX record_by_what, record_by_people, record_by_kind, record_by_file, record_by_state, record_by_bytes, record_sized;
