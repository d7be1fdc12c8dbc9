-- +goose Up
-- Scope is a rule: the handles that an authority covers (none: all), and those
-- of privileged people, whose records are withheld whatever else it says.
ALTER TABLE authority
  ADD COLUMN covered    text[] NOT NULL DEFAULT '{}',
  ADD COLUMN privileged text[] NOT NULL DEFAULT '{}';

-- How many records of a database lay outside scope, by why. They are counted
-- and kept nowhere.
ALTER TABLE recovered_database ADD COLUMN withheld jsonb NOT NULL DEFAULT '{}';

-- +goose Down
ALTER TABLE authority DROP COLUMN covered, DROP COLUMN privileged;
ALTER TABLE recovered_database DROP COLUMN withheld;
