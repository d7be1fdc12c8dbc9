-- +goose Up
CREATE TABLE examiner (
  id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  login         text NOT NULL UNIQUE CHECK (login <> ''),
  name          text NOT NULL CHECK (name <> ''),
  role          text NOT NULL CHECK (role IN ('examiner', 'custodian', 'reviewer')),
  password_hash text NOT NULL,
  created_at    timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE sessions (
  token  text PRIMARY KEY,
  data   bytea NOT NULL,
  expiry timestamptz NOT NULL
);
CREATE INDEX sessions_expiry ON sessions (expiry);

CREATE TABLE cases (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  reference  text NOT NULL UNIQUE CHECK (reference ~ '^[A-Za-z0-9][A-Za-z0-9._-]{0,39}$'),
  title      text NOT NULL CHECK (title <> ''),
  zone       text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE authority (
  id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  case_id      bigint NOT NULL REFERENCES cases,
  kind         text NOT NULL,
  issued_by    text NOT NULL,
  number       text NOT NULL,
  valid_from   timestamptz NOT NULL,
  valid_to     timestamptz NOT NULL,
  scope_kinds  text[] NOT NULL,
  scope_from   timestamptz,
  scope_to     timestamptz,
  scope_people text NOT NULL DEFAULT '',
  excluded     text NOT NULL DEFAULT ''
);
CREATE INDEX authority_case ON authority (case_id);

CREATE TABLE exhibit (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  case_id     bigint NOT NULL REFERENCES cases,
  reference   text NOT NULL CHECK (reference <> ''),
  kind        text NOT NULL CHECK (kind IN ('handset', 'memory card', 'computer medium', 'account')),
  model_mark  text NOT NULL,
  serial      text NOT NULL,
  imei        text NOT NULL DEFAULT '',
  imei_note   text NOT NULL DEFAULT '', -- why a wrong check digit was kept
  power       text NOT NULL DEFAULT '',
  screen      text NOT NULL DEFAULT '',
  lock        text NOT NULL DEFAULT '',
  damage      text NOT NULL DEFAULT '',
  created_at  timestamptz NOT NULL DEFAULT now(),
  UNIQUE (case_id, reference)
);

CREATE TABLE custody (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  exhibit_id bigint NOT NULL REFERENCES exhibit,
  what       text NOT NULL CHECK (what IN ('received', 'handed over', 'sealed', 'opened', 'examined', 'returned')),
  at         timestamptz NOT NULL,
  from_whom  text NOT NULL DEFAULT '',
  to_whom    text NOT NULL,
  seal       text NOT NULL DEFAULT '',
  place      text NOT NULL,
  note       text NOT NULL DEFAULT '',
  CHECK (what <> 'handed over' OR (from_whom <> '' AND to_whom <> '' AND from_whom <> to_whom))
);
CREATE INDEX custody_exhibit ON custody (exhibit_id, at, id);

-- The custody ledger. Each line is the canonical text whose digest the next
-- line holds; the columns beside it only serve to find it.
CREATE TABLE ledger (
  book text   NOT NULL,
  seq  bigint NOT NULL CHECK (seq > 0),
  line bytea  NOT NULL,
  hash text   NOT NULL,
  at   timestamptz NOT NULL,
  PRIMARY KEY (book, seq)
);

-- +goose StatementBegin
CREATE FUNCTION ledger_is_append_only() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  RAISE EXCEPTION 'the custody ledger is append-only: % is refused', TG_OP;
END $$;
-- +goose StatementEnd
CREATE TRIGGER ledger_no_change BEFORE UPDATE OR DELETE ON ledger
  FOR EACH ROW EXECUTE FUNCTION ledger_is_append_only();
CREATE TRIGGER ledger_no_truncate BEFORE TRUNCATE ON ledger
  FOR EACH STATEMENT EXECUTE FUNCTION ledger_is_append_only();

-- When a ledger was last read from end to end, and what was found.
CREATE TABLE ledger_check (
  id    bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  book  text NOT NULL,
  at    timestamptz NOT NULL,
  size  bigint NOT NULL,
  fault text NOT NULL DEFAULT ''
);
CREATE INDEX ledger_check_latest ON ledger_check (book, id DESC);

CREATE TABLE run (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  case_id     bigint NOT NULL REFERENCES cases,
  kind        text NOT NULL,
  subject     jsonb NOT NULL,              -- what the kind of run needs to know
  title       text NOT NULL,
  by          text NOT NULL,
  state       text NOT NULL DEFAULT 'queued' CHECK (state IN ('queued', 'running', 'paused', 'stopped', 'done', 'failed')),
  wish        text NOT NULL DEFAULT 'run' CHECK (wish IN ('run', 'pause', 'stop')),
  fence       bigint NOT NULL DEFAULT 0,   -- grows each time that a worker takes the run
  lease_until timestamptz,
  bytes_done  bigint NOT NULL DEFAULT 0,
  bytes_total bigint NOT NULL DEFAULT 0,
  items_done  bigint NOT NULL DEFAULT 0,
  items_total bigint NOT NULL DEFAULT 0,
  found       jsonb NOT NULL DEFAULT '{}',
  log         text[] NOT NULL DEFAULT '{}',
  error       text NOT NULL DEFAULT '',
  created_at  timestamptz NOT NULL DEFAULT now(),
  started_at  timestamptz,
  ended_at    timestamptz
);
CREATE INDEX run_open ON run (id) WHERE state IN ('queued', 'running');
CREATE INDEX run_case ON run (case_id, id DESC);

CREATE TABLE acquisition (
  id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  case_id      bigint NOT NULL REFERENCES cases,
  exhibit_id   bigint NOT NULL REFERENCES exhibit,
  number       int NOT NULL,               -- of the exhibit's acquisitions, from 1
  run_id       bigint NOT NULL UNIQUE REFERENCES run,
  method       text NOT NULL,
  source       text NOT NULL,              -- the path that was read
  facts        jsonb NOT NULL,             -- what the source says about itself
  tool         text NOT NULL,              -- name and version
  settings     text NOT NULL,
  by           text NOT NULL,
  started_at   timestamptz NOT NULL,
  ended_at     timestamptz,
  files        bigint NOT NULL DEFAULT 0,
  bytes        bigint NOT NULL DEFAULT 0,
  manifest     text NOT NULL DEFAULT '',   -- SHA-256 of the SHA-256 manifest, hex
  UNIQUE (exhibit_id, number)
);

CREATE TABLE acquired_file (
  acquisition_id bigint NOT NULL REFERENCES acquisition,
  path           text NOT NULL,            -- below the source folder
  real_path      text NOT NULL DEFAULT '', -- on the handset, as the catalogue says
  size           bigint NOT NULL,
  md5            text NOT NULL,
  sha1           text NOT NULL,
  sha256         text NOT NULL,
  segments       bytea NOT NULL,           -- CRC-32C of each MiB, big-endian
  modified_at    timestamptz,
  checked_at     timestamptz NOT NULL,
  fault          text NOT NULL DEFAULT '', -- what the last check found wrong
  bad_segments   int[] NOT NULL DEFAULT '{}',
  PRIMARY KEY (acquisition_id, path)
);
CREATE INDEX acquired_file_sha256 ON acquired_file (sha256);

-- What an acquisition could not take, or found not as the source says.
CREATE TABLE acquisition_fault (
  acquisition_id bigint NOT NULL REFERENCES acquisition,
  path           text NOT NULL,
  fault          text NOT NULL,
  PRIMARY KEY (acquisition_id, path, fault)
);

CREATE TABLE verification (
  id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  acquisition_id bigint NOT NULL REFERENCES acquisition,
  against        text NOT NULL CHECK (against IN ('vault', 'source')),
  at             timestamptz NOT NULL,
  by             text NOT NULL,
  files          bigint NOT NULL,
  faults         bigint NOT NULL
);
CREATE INDEX verification_acquisition ON verification (acquisition_id, id DESC);

CREATE TABLE recovery (
  id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  acquisition_id bigint NOT NULL REFERENCES acquisition,
  run_id         bigint NOT NULL UNIQUE REFERENCES run,
  full_pass      boolean NOT NULL,
  tool           text NOT NULL,
  started_at     timestamptz NOT NULL,
  ended_at       timestamptz
);

-- What each database of an acquisition gave.
CREATE TABLE recovered_database (
  recovery_id bigint NOT NULL REFERENCES recovery,
  path        text NOT NULL,
  field_map   text NOT NULL,               -- '' if none is known for it
  live        bigint NOT NULL,
  by_origin   jsonb NOT NULL,
  notes       text[] NOT NULL,
  PRIMARY KEY (recovery_id, path)
);

CREATE TABLE record (
  id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  case_id        bigint NOT NULL REFERENCES cases,
  exhibit_id     bigint NOT NULL REFERENCES exhibit,
  acquisition_id bigint NOT NULL REFERENCES acquisition,
  uid            text NOT NULL,            -- the same each time the same bytes are read
  kind           text NOT NULL,
  state          text NOT NULL,
  place          text NOT NULL,            -- in words: live row, holding area, free block
  at             timestamptz,
  thread         text NOT NULL,            -- the conversation's key, '' if none
  thread_title   text NOT NULL,
  person         text NOT NULL,
  handle         text NOT NULL,
  direction      text NOT NULL,
  summary        text NOT NULL,
  body           jsonb NOT NULL,           -- the whole record
  UNIQUE (acquisition_id, uid)
);
CREATE INDEX record_time ON record (case_id, at, id);
CREATE INDEX record_exhibit ON record (exhibit_id, state);
CREATE INDEX record_thread ON record (acquisition_id, thread, at, id);

CREATE TABLE mark (
  record_id bigint PRIMARY KEY REFERENCES record,
  by        text NOT NULL,
  at        timestamptz NOT NULL,
  reason    text NOT NULL CHECK (reason <> '')
);

CREATE TABLE package (
  id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  case_id   bigint NOT NULL REFERENCES cases,
  run_id    bigint NOT NULL UNIQUE REFERENCES run,
  name      text NOT NULL,
  by        text NOT NULL,
  at        timestamptz NOT NULL,
  size      bigint NOT NULL,
  sha256    text NOT NULL
);

-- +goose Down
DROP TABLE package, mark, record, recovered_database, recovery, verification, acquisition_fault, acquired_file,
  acquisition, run, ledger_check, ledger, custody, exhibit, authority, cases, sessions, examiner;
DROP FUNCTION ledger_is_append_only;
