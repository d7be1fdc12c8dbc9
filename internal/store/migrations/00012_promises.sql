-- +goose Up
-- Scope: each authority is a new epoch. A file's bytes may be seen where it was read
-- fully under the present one.
ALTER TABLE cases ADD COLUMN scope_epoch bigint NOT NULL DEFAULT 1;
ALTER TABLE recovery ADD COLUMN scope_epoch bigint NOT NULL DEFAULT 0;
ALTER TABLE recovered_database ADD COLUMN whole boolean NOT NULL DEFAULT false; -- every byte was read, by a full pass
ALTER TABLE exhibit ADD COLUMN country text NOT NULL DEFAULT ''; -- ISO 3166-1 alpha-2, '' for that of its numbers

ALTER TABLE record
  ADD COLUMN parties text[],                     -- handles in normal form
  ADD COLUMN thread_lost boolean NOT NULL DEFAULT false,
  ADD COLUMN db text NOT NULL DEFAULT '',        -- path of the database on the handset
  ADD COLUMN recovery_id bigint REFERENCES recovery; -- the reading that said it last
UPDATE record SET db = regexp_replace(body->'origin'->>'path', '-(wal|journal)$', ''),
  recovery_id = (SELECT max(v.id) FROM recovery v WHERE v.acquisition_id = record.acquisition_id AND v.ended_at IS NOT NULL);
CREATE INDEX record_db ON record (acquisition_id, db);
CREATE INDEX record_row ON record (exhibit_id, db, (body->'origin'->>'rowid'));

-- Who was seen in a conversation, by any reading of any source of an exhibit.
CREATE TABLE conversation_member (
  exhibit_id bigint NOT NULL REFERENCES exhibit,
  db         text NOT NULL,
  thread     text NOT NULL,
  member     text NOT NULL,
  PRIMARY KEY (exhibit_id, db, thread, member)
);

-- A time that cannot be kept is none.
ALTER TABLE archive_member ALTER COLUMN modified_at DROP NOT NULL;

-- What was decided against a rule, and why.
CREATE TABLE overridden (
  id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  case_id bigint NOT NULL REFERENCES cases,
  what    text NOT NULL,
  about   text NOT NULL,
  reason  text NOT NULL CHECK (reason <> ''),
  by      text NOT NULL,
  at      timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX overridden_case ON overridden (case_id, id);

-- What was found not to be as the ledger or the vault says, until it is found right.
CREATE TABLE alarm (
  case_id bigint NOT NULL REFERENCES cases,
  about   text NOT NULL,
  what    text NOT NULL,
  at      timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (case_id, about)
);

-- Runs: their logs are lines of their own, and a run that fails the same way again
-- and again is known by it.
CREATE TABLE run_log (
  run_id bigint NOT NULL REFERENCES run,
  n      bigint NOT NULL,
  line   text NOT NULL,
  PRIMARY KEY (run_id, n)
);
INSERT INTO run_log SELECT r.id, l.n, l.line FROM run r, unnest(r.log) WITH ORDINALITY l(line, n);
ALTER TABLE run
  ADD COLUMN log_lines bigint NOT NULL DEFAULT 0,
  ADD COLUMN failures int NOT NULL DEFAULT 0,    -- in the same way
  ADD COLUMN failing text NOT NULL DEFAULT '',   -- that way
  ADD COLUMN vanished int NOT NULL DEFAULT 0,    -- workers, one after the other, at one place
  ADD COLUMN reason text NOT NULL DEFAULT '';    -- why it reads evidence with no authority in force
UPDATE run SET log_lines = cardinality(log);
ALTER TABLE run DROP COLUMN log;

-- What the ledger says once, with a count.
CREATE TABLE ledger_repeat (
  book  text NOT NULL,
  act   text NOT NULL, -- SHA-256 of who did what to which thing, hex
  times bigint NOT NULL,
  PRIMARY KEY (book, act)
);

-- Forms that were sent: a second sending does nothing.
CREATE TABLE form_sent (
  key text PRIMARY KEY,
  at  timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX form_sent_at ON form_sent (at);

-- Sign-ins that were tried and refused, as counts, by address and by name (its
-- digest: people type passwords there).
CREATE TABLE refusal (
  what   text NOT NULL CHECK (what IN ('address', 'name')),
  who    text NOT NULL,
  times  bigint NOT NULL DEFAULT 0, -- refused in all
  recent double precision NOT NULL DEFAULT 0, -- tried of late: halved every five minutes
  at     timestamptz NOT NULL,
  next   timestamptz NOT NULL, -- when the next one may be tried
  PRIMARY KEY (what, who)
);
CREATE INDEX refusal_at ON refusal (at);

-- +goose Down
DROP TABLE refusal, form_sent, ledger_repeat;
ALTER TABLE run ADD COLUMN log text[] NOT NULL DEFAULT '{}';
UPDATE run SET log = ARRAY(SELECT line FROM run_log l WHERE l.run_id = run.id ORDER BY n);
ALTER TABLE run DROP COLUMN log_lines, DROP COLUMN failures, DROP COLUMN failing, DROP COLUMN vanished, DROP COLUMN reason;
DROP TABLE run_log, alarm, overridden, conversation_member;
DROP INDEX record_db, record_row;
ALTER TABLE record DROP COLUMN parties, DROP COLUMN thread_lost, DROP COLUMN db, DROP COLUMN recovery_id;
ALTER TABLE exhibit DROP COLUMN country;
ALTER TABLE recovered_database DROP COLUMN whole;
ALTER TABLE recovery DROP COLUMN scope_epoch;
ALTER TABLE cases DROP COLUMN scope_epoch;
