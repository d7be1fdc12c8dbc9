-- +goose Up
-- The content of an encrypted backup, or of one that is a single archive, is a
-- second part of its acquisition's files.
ALTER TABLE acquired_file
  ALTER COLUMN path TYPE text COLLATE "C",
  ADD COLUMN content boolean NOT NULL DEFAULT false,
  ADD COLUMN archive_at bigint,               -- where it begins in the archive, decrypted
  ADD COLUMN known text NOT NULL DEFAULT '',  -- the known-file set that names it
  DROP CONSTRAINT acquired_file_pkey,
  ADD PRIMARY KEY (acquisition_id, content, path);
INSERT INTO acquired_file(acquisition_id, content, path, real_path, size, md5, sha1, sha256, segments, modified_at, checked_at)
  SELECT f.acquisition_id, true, f.path, f.real_path, f.size, f.md5, f.sha1, f.sha256, '', f.modified_at, coalesce(a.unlocked_at, a.started_at)
  FROM content_file f JOIN acquisition a ON a.id = f.acquisition_id;
DROP TABLE content_file;

-- Further places in which a case's sources are looked for.
CREATE TABLE place (
  case_id bigint NOT NULL REFERENCES cases,
  path    text NOT NULL,
  by      text NOT NULL,
  at      timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (case_id, path)
);

-- Archives that were handed in, and what they hold.
CREATE TABLE archive (
  id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  case_id  bigint NOT NULL REFERENCES cases,
  run_id   bigint REFERENCES run,
  name     text NOT NULL,
  path     text NOT NULL DEFAULT '',        -- on this machine, '' if it was uploaded
  size     bigint NOT NULL DEFAULT 0,
  sha256   text NOT NULL DEFAULT '',
  refused  text NOT NULL DEFAULT '',        -- why it was not unpacked
  notes    text[] NOT NULL DEFAULT '{}',    -- members that were not taken
  by       text NOT NULL,
  at       timestamptz NOT NULL DEFAULT now(),
  ready_at timestamptz
);
CREATE INDEX archive_case ON archive (case_id, id);
CREATE TABLE archive_member (
  archive_id  bigint NOT NULL REFERENCES archive,
  path        text COLLATE "C" NOT NULL,
  size        bigint NOT NULL,
  sha256      text NOT NULL,
  modified_at timestamptz NOT NULL,
  PRIMARY KEY (archive_id, path)
);

-- Which processes are alive. A run that needs what only one process has in
-- memory names it as its holder.
CREATE TABLE process (
  id         text PRIMARY KEY,
  what       text NOT NULL,
  host       text NOT NULL,
  pid        int NOT NULL,
  started_at timestamptz NOT NULL DEFAULT now(),
  seen_at    timestamptz NOT NULL DEFAULT now()
);
ALTER TABLE run ADD COLUMN holder text NOT NULL DEFAULT '', ADD COLUMN worker text NOT NULL DEFAULT '';

-- Checks that come round by themselves.
CREATE TABLE schedule (
  case_id bigint PRIMARY KEY REFERENCES cases,
  days    int NOT NULL CHECK (days BETWEEN 1 AND 366),
  next_at timestamptz NOT NULL,
  by      text NOT NULL
);

CREATE TABLE known_set (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  case_id     bigint NOT NULL REFERENCES cases,
  name        text NOT NULL CHECK (name <> ''),
  list_sha256 text NOT NULL,                  -- the list as it was handed in, in the vault
  set_sha256  text NOT NULL,                  -- the set made from it, in the vault
  algorithm   text NOT NULL CHECK (algorithm IN ('md5', 'sha1', 'sha256')),
  digests     bigint NOT NULL,
  skipped     bigint NOT NULL,                -- lines that hold no digest
  by          text NOT NULL,
  at          timestamptz NOT NULL,
  UNIQUE (case_id, name)
);

ALTER TABLE cases ADD COLUMN people text NOT NULL DEFAULT '', ADD COLUMN notes text NOT NULL DEFAULT '';
ALTER TABLE authority
  ADD COLUMN document text NOT NULL DEFAULT '', -- SHA-256, in the vault
  ADD COLUMN document_name text NOT NULL DEFAULT '', ADD COLUMN document_type text NOT NULL DEFAULT '';
ALTER TABLE exhibit
  ADD COLUMN packaging text NOT NULL DEFAULT '',
  ADD COLUMN lost_at timestamptz, ADD COLUMN lost_what text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE exhibit DROP COLUMN packaging, DROP COLUMN lost_at, DROP COLUMN lost_what;
ALTER TABLE authority DROP COLUMN document, DROP COLUMN document_name, DROP COLUMN document_type;
ALTER TABLE cases DROP COLUMN people, DROP COLUMN notes;
DROP TABLE known_set, schedule, archive_member, archive, place;
ALTER TABLE run DROP COLUMN holder, DROP COLUMN worker;
DROP TABLE process;
CREATE TABLE content_file (
  acquisition_id bigint NOT NULL REFERENCES acquisition, path text NOT NULL, real_path text NOT NULL, size bigint NOT NULL,
  md5 text NOT NULL, sha1 text NOT NULL, sha256 text NOT NULL, modified_at timestamptz, PRIMARY KEY (acquisition_id, path));
INSERT INTO content_file SELECT acquisition_id, path, real_path, size, md5, sha1, sha256, modified_at FROM acquired_file WHERE content;
DELETE FROM acquired_file WHERE content;
ALTER TABLE acquired_file DROP CONSTRAINT acquired_file_pkey, DROP COLUMN content, DROP COLUMN archive_at, DROP COLUMN known,
  ADD PRIMARY KEY (acquisition_id, path);
