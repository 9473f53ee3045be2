-- +goose Up
-- A certificate that was made anew and is not where it is shown yet: what kept it from there, how often it was
-- tried, and when that is tried again.
CREATE TABLE renewals (
  ground_id   bigint NOT NULL REFERENCES grounds ON DELETE CASCADE,
  certificate text NOT NULL,
  tries       integer NOT NULL,
  next_at     timestamptz NOT NULL,
  what        text NOT NULL,
  fix         text NOT NULL,
  PRIMARY KEY (ground_id, certificate)
);
-- The replica that renews a ground's certificates, "" for none, and when it was last heard of.
ALTER TABLE grounds ADD COLUMN renewer text NOT NULL DEFAULT '', ADD COLUMN renewer_beat_at timestamptz NOT NULL DEFAULT now();

-- +goose Down
ALTER TABLE grounds DROP COLUMN renewer, DROP COLUMN renewer_beat_at;
DROP TABLE renewals;
