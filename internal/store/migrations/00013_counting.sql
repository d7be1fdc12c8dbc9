-- +goose Up
-- What charts count is in the index itself, and records without a time are found apart.
CREATE INDEX record_chart ON record (case_id, at, id) INCLUDE (kind, state, exhibit_id);
CREATE INDEX record_untimed ON record (case_id, id) WHERE at IS NULL;
DROP INDEX record_time;

-- +goose Down
CREATE INDEX record_time ON record (case_id, at, id);
DROP INDEX record_untimed, record_chart;
