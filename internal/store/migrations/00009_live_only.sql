-- +goose Up
-- Live records only were chosen: what is held, or was deleted, is counted and
-- withheld at recovery.
ALTER TABLE acquisition ADD COLUMN live_only boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE acquisition DROP COLUMN live_only;
