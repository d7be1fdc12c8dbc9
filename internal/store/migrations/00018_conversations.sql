-- +goose Up
-- A conversation is of one database: two apps may use the same key.
CREATE INDEX record_talk ON record (acquisition_id, db, thread, at, id) WHERE thread <> '';
DROP INDEX record_thread;

-- +goose Down
CREATE INDEX record_thread ON record (acquisition_id, thread, at, id);
DROP INDEX record_talk;
