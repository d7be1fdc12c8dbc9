-- +goose Up
-- Where a record says that something was, in degrees and metres, for maps and for what lies near a place; and whether
-- files belong to it.
ALTER TABLE record ADD COLUMN latitude double precision, ADD COLUMN longitude double precision, ADD COLUMN accuracy double precision,
  ADD COLUMN attached boolean NOT NULL DEFAULT false;
UPDATE record r SET latitude = (w.body::jsonb->'place'->>'latitude')::float8, longitude = (w.body::jsonb->'place'->>'longitude')::float8, accuracy = (w.body::jsonb->'place'->>'accuracy')::float8
  FROM record_whole w WHERE w.record_id = r.id AND w.body LIKE '%"latitude":%';
UPDATE record r SET attached = true FROM record_whole w WHERE w.record_id = r.id AND w.body LIKE '%"attachments":[%';
CREATE INDEX record_placed ON record (case_id, at, id) WHERE latitude IS NOT NULL;

-- +goose Down
DROP INDEX record_placed;
ALTER TABLE record DROP COLUMN latitude, DROP COLUMN longitude, DROP COLUMN accuracy, DROP COLUMN attached;
