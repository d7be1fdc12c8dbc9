-- +goose Up
-- What examiners wrote and arranged of a case's report: every version is kept.
CREATE TABLE report_version (
  case_id bigint NOT NULL REFERENCES cases,
  version bigint NOT NULL CHECK (version > 0),
  body    text NOT NULL, -- JSON
  by      text NOT NULL,
  at      timestamptz NOT NULL,
  PRIMARY KEY (case_id, version)
);
-- What was done with a version: asked to be reviewed, said of, returned, accepted, signed.
CREATE TABLE report_step (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  case_id     bigint NOT NULL,
  version     bigint NOT NULL,
  what        text NOT NULL CHECK (what IN ('submitted', 'commented', 'returned', 'accepted', 'signed')),
  note        text NOT NULL,
  by          text NOT NULL,
  at          timestamptz NOT NULL,
  scope_epoch bigint NOT NULL, -- of the case's scope, then
  page        bytea,           -- of one that was signed: the report itself
  sha256      text NOT NULL DEFAULT '', -- of that, hex
  FOREIGN KEY (case_id, version) REFERENCES report_version
);
CREATE INDEX report_step_case ON report_step (case_id, version, id);
CREATE UNIQUE INDEX report_step_signed ON report_step (case_id, version) WHERE what = 'signed';

-- +goose Down
DROP TABLE report_step;
DROP TABLE report_version;
