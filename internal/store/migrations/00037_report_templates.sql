-- +goose Up
-- How reports are arranged, and what stands in each, by names that examiners give.
CREATE TABLE report_template (
  name text PRIMARY KEY,
  body text NOT NULL, -- JSON
  by   text NOT NULL,
  at   timestamptz NOT NULL
);

-- +goose Down
DROP TABLE report_template;
