-- +goose Up
-- The shape of a record: times, parties and facts as lists, the conversation as a part of its own.
UPDATE record r SET body = jsonb_strip_nulls(jsonb_build_object('uid', r.uid, 'kind', r.kind, 'state', r.state, 'direction', nullif(r.direction, ''), 'text', coalesce(r.body->>'text', ''),
  'facts', (SELECT jsonb_agg(jsonb_build_object('name', d->>'label', 'value', d->>'value') ORDER BY n) FROM jsonb_array_elements(r.body->'details') WITH ORDINALITY x(d, n) WHERE d->>'label' <> 'To be purged'),
  'conversation', CASE WHEN r.kind = 'message' THEN jsonb_build_object('key', r.thread, 'title', nullif(r.thread_title, ''), 'lost', nullif(r.thread_lost, false)) END,
  'times', (SELECT jsonb_agg(t) FROM (
    SELECT jsonb_build_object('role', CASE r.kind WHEN 'message' THEN 'sent' WHEN 'call' THEN 'began' ELSE 'changed' END, 'at', r.body->>'at', 'stored', r.body->>'original') t WHERE r.body->>'original' <> ''
    UNION ALL SELECT jsonb_build_object('role', 'purged', 'at', r.body->>'purge', 'stored', 'not kept by the version that read it') WHERE r.body ? 'purge') x),
  'parties', (SELECT jsonb_agg(jsonb_build_object('role', CASE WHEN r.kind = 'contact' THEN 'card' WHEN r.direction = 'in' THEN 'from' WHEN r.direction = 'out' THEN 'to' ELSE 'with' END,
      'handle', CASE cardinality(r.parties) WHEN 1 THEN r.handle ELSE p END, 'normal', p, 'scheme', CASE WHEN p LIKE '%@%' THEN 'mail' WHEN p ~ '^\+?[0-9]+$' THEN 'telephone' ELSE 'account' END,
      'name', CASE WHEN n = 1 THEN nullif(r.person, '') END) ORDER BY n) FROM unnest(r.parties) WITH ORDINALITY x(p, n))))
  || jsonb_build_object('origin', r.body->'origin')
WHERE r.body ? 'origin';

-- +goose Down
-- What was kept as a list stays one: records are read again by the version before.
SELECT 1;
