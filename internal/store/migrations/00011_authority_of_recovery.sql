-- +goose Up
-- The last authority whose scope a recovery knew when it began: when it goes on under
-- a further one, it begins again.
ALTER TABLE recovery ADD COLUMN authority_id bigint NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE recovery DROP COLUMN authority_id;
