-- +goose Up
-- What the files of a record are: the largest one's size in bytes, their media types and the endings of their names, and
-- whether one of their paths, or the path that the record was read from, is hidden; and when the source says that it was deleted.
ALTER TABLE record ADD COLUMN bytes bigint, ADD COLUMN types text[], ADD COLUMN hidden boolean NOT NULL DEFAULT false, ADD COLUMN gone_at timestamptz;
UPDATE record r SET bytes = f.bytes, types = f.types, hidden = f.hidden FROM (SELECT w.record_id,
    max((a->>'size')::numeric) FILTER (WHERE a->>'size' ~ '^[0-9]{1,18}$')::bigint AS bytes,
    array_remove(array_agg(DISTINCT lower(split_part(a->>'type', ';', 1))) || array_agg(DISTINCT lower(substring(coalesce(a->>'path', '') || coalesce(a->>'name', '') FROM '\.[^./ ]{1,16}$'))), NULL) AS types,
    coalesce(bool_or(strpos(a->>'path', '/.') > 0), false) AS hidden
  FROM record_whole w, jsonb_array_elements(w.body::jsonb->'attachments') a WHERE w.body LIKE '%"attachments":[%' GROUP BY 1) f WHERE f.record_id = r.id;
UPDATE record SET hidden = true WHERE strpos(db, '/.') > 0;
UPDATE record r SET gone_at = g.at FROM (SELECT w.record_id, min((t->>'at')::timestamptz) AS at
  FROM record_whole w, jsonb_array_elements(w.body::jsonb->'times') t WHERE w.body LIKE '%"role":"deleted"%' AND t->>'role' = 'deleted' AND t->>'doubt' IS NULL GROUP BY 1) g WHERE g.record_id = r.id;

-- +goose Down
ALTER TABLE record DROP COLUMN bytes, DROP COLUMN types, DROP COLUMN hidden, DROP COLUMN gone_at;
