-- +goose Up
-- The ID of a record is the whole SHA-256; it was the first 16 digits of it.
CREATE TEMPORARY TABLE full_id ON COMMIT DROP AS
SELECT id, acquisition_id, uid, encode(sha256(convert_to(kind, 'UTF8') || '\x00' || convert_to(body->'origin'->>'stored', 'UTF8') || '\x00' || convert_to(body->'origin'->>'sha256', 'UTF8')
  || '\x00' || convert_to(body->'origin'->>'offset', 'UTF8') || '\x00' || convert_to(body->'origin'->>'length', 'UTF8') || '\x00' || convert_to(body->'origin'->>'table', 'UTF8')), 'hex') AS whole
FROM record;
DELETE FROM full_id WHERE left(whole, 16) IS DISTINCT FROM uid;
UPDATE record r SET uid = f.whole, body = jsonb_set(r.body, '{uid}', to_jsonb(f.whole)) FROM full_id f WHERE r.id = f.id;
UPDATE found_row o SET uid = f.whole FROM full_id f, recovery v WHERE v.id = o.recovery_id AND v.acquisition_id = f.acquisition_id AND o.uid = f.uid;

-- +goose Down
UPDATE record SET uid = left(uid, 16), body = jsonb_set(body, '{uid}', to_jsonb(left(uid, 16)));
UPDATE found_row SET uid = left(uid, 16);
