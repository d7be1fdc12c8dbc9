-- +goose Up
-- A record's origins are a list, of which the first is what proves it. What earlier versions read is of
-- maps that gave less of each record: it stays, and is to be recovered again before it is packaged.
UPDATE record_whole SET body = regexp_replace(body, ',"origin":(\{.*\})\}$', ',"origins":[\1]}') WHERE body LIKE '%,"origin":{%';
UPDATE recovery SET scope_epoch = 0;
ALTER TABLE record_whole ALTER body SET COMPRESSION lz4; -- three times as fast to keep as the default, and no larger

-- +goose Down
ALTER TABLE record_whole ALTER body SET COMPRESSION default;
UPDATE record_whole SET body = regexp_replace(body, ',"origins":\[(\{.*?\})(,\{.*\})?\]\}$', ',"origin":\1}') WHERE body LIKE '%,"origins":[%';
