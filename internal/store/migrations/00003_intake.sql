-- +goose Up
ALTER TABLE custody DROP CONSTRAINT custody_what_check;
ALTER TABLE custody ADD CONSTRAINT custody_what_check
  CHECK (what IN ('received', 'sealed', 'opened', 'moved', 'handed over', 'examined', 'returned', 'disposed'));
-- How a hand-over was confirmed: by both sides' sign-ins, or by a paper receipt.
ALTER TABLE custody ADD COLUMN confirmed text NOT NULL DEFAULT '';

ALTER TABLE exhibit
  ADD COLUMN iccid        text NOT NULL DEFAULT '',
  ADD COLUMN iccid_note   text NOT NULL DEFAULT '', -- why a wrong check digit was kept
  ADD COLUMN numbers      text NOT NULL DEFAULT '', -- phone numbers, E.164, with commas
  ADD COLUMN touch        text NOT NULL DEFAULT '',
  ADD COLUMN radios       text NOT NULL DEFAULT '',
  ADD COLUMN seized_at    timestamptz,
  ADD COLUMN seized_place text NOT NULL DEFAULT '',
  ADD COLUMN seized_by    text NOT NULL DEFAULT '',
  ADD COLUMN clock_offset text NOT NULL DEFAULT '', -- seconds, the exhibit's clock less the reference
  ADD COLUMN clock_method text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE exhibit DROP COLUMN iccid, DROP COLUMN iccid_note, DROP COLUMN numbers, DROP COLUMN touch, DROP COLUMN radios,
  DROP COLUMN seized_at, DROP COLUMN seized_place, DROP COLUMN seized_by, DROP COLUMN clock_offset, DROP COLUMN clock_method;
ALTER TABLE custody DROP COLUMN confirmed;
