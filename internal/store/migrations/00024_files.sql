-- +goose Up
-- How many files an acquisition has, and how many of them differ, kept by the database itself: every page asks.
CREATE TABLE acquired_count (
  acquisition_id bigint PRIMARY KEY,
  files          bigint NOT NULL,
  faulty         bigint NOT NULL
);
INSERT INTO acquired_count SELECT acquisition_id, count(*), count(*) FILTER (WHERE fault <> '') FROM acquired_file GROUP BY 1;

-- +goose StatementBegin
CREATE FUNCTION count_files() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP <> 'INSERT' THEN
    UPDATE acquired_count c SET files = c.files - w.files, faulty = c.faulty - w.faulty
      FROM (SELECT acquisition_id, count(*) AS files, count(*) FILTER (WHERE fault <> '') AS faulty FROM went GROUP BY 1) w WHERE w.acquisition_id = c.acquisition_id;
  END IF;
  IF TG_OP <> 'DELETE' THEN
    INSERT INTO acquired_count AS c SELECT acquisition_id, count(*), count(*) FILTER (WHERE fault <> '') FROM came GROUP BY 1 ORDER BY 1
      ON CONFLICT (acquisition_id) DO UPDATE SET files = c.files + excluded.files, faulty = c.faulty + excluded.faulty;
  END IF;
  RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER files_come AFTER INSERT ON acquired_file REFERENCING NEW TABLE AS came FOR EACH STATEMENT EXECUTE FUNCTION count_files();
CREATE TRIGGER files_change AFTER UPDATE ON acquired_file REFERENCING OLD TABLE AS went NEW TABLE AS came FOR EACH STATEMENT EXECUTE FUNCTION count_files();
CREATE TRIGGER files_go AFTER DELETE ON acquired_file REFERENCING OLD TABLE AS went FOR EACH STATEMENT EXECUTE FUNCTION count_files();

-- +goose Down
DROP TRIGGER files_go ON acquired_file;
DROP TRIGGER files_change ON acquired_file;
DROP TRIGGER files_come ON acquired_file;
DROP FUNCTION count_files;
DROP TABLE acquired_count;
