-- +goose Up
-- What names a run on hosts: which service it is of, and what no other run ever has.
CREATE TABLE service (
  alone boolean PRIMARY KEY DEFAULT true CHECK (alone),
  id    text NOT NULL DEFAULT substr(replace(gen_random_uuid()::text, '-', ''), 1, 12)
);
INSERT INTO service DEFAULT VALUES;
ALTER TABLE runs
  ADD COLUMN once text NOT NULL DEFAULT substr(replace(gen_random_uuid()::text, '-', ''), 1, 12),
  ADD COLUMN cancelled_by text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE runs DROP COLUMN once, DROP COLUMN cancelled_by;
DROP TABLE service;
