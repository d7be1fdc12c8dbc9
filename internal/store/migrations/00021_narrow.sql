-- +goose Up
DROP INDEX record_row, record_db, record_exhibit;
ALTER TABLE record DROP COLUMN body;
CREATE INDEX record_row ON record (exhibit_id, db, row_id);
CREATE INDEX record_page ON record (acquisition_id, db, page);
CREATE INDEX record_words ON record USING gin (lexemes(words));

-- +goose Down
ALTER TABLE record ADD COLUMN body jsonb;
UPDATE record SET body = w.body::jsonb FROM record_whole w WHERE w.record_id = id;
DROP INDEX record_words, record_page, record_row;
CREATE INDEX record_row ON record (exhibit_id, db, (body->'origin'->>'rowid'));
CREATE INDEX record_db ON record (acquisition_id, db);
CREATE INDEX record_exhibit ON record (exhibit_id, state);
