-- +goose Up
CREATE TABLE grounds (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name       text NOT NULL UNIQUE,
  created_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE revisions (
  ground_id  bigint NOT NULL REFERENCES grounds ON DELETE CASCADE,
  number     integer NOT NULL,
  digest     text NOT NULL,
  sources    json NOT NULL,
  manifest   json NOT NULL,
  made_by    text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (ground_id, number)
);
CREATE TABLE blobs (
  sha256  text PRIMARY KEY,
  size    bigint NOT NULL,
  content bytea NOT NULL
);
CREATE TABLE secrets (
  name       text PRIMARY KEY,
  sealed     bytea NOT NULL,
  updated_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE tokens (
  hash       bytea PRIMARY KEY,
  name       text NOT NULL,
  session    boolean NOT NULL DEFAULT false,
  created_at timestamptz NOT NULL DEFAULT now(),
  used_at    timestamptz,
  expires_at timestamptz
);
CREATE UNIQUE INDEX tokens_name ON tokens (name) WHERE NOT session;
CREATE TABLE host_keys (
  ground_id   bigint NOT NULL REFERENCES grounds ON DELETE CASCADE,
  host        text NOT NULL,
  type        text NOT NULL,
  fingerprint text NOT NULL,
  key         text NOT NULL,
  trusted_by  text NOT NULL,
  trusted_at  timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (ground_id, host, fingerprint)
);
CREATE INDEX host_keys_fingerprint ON host_keys (fingerprint);
CREATE TABLE hosts (
  ground_id bigint NOT NULL REFERENCES grounds ON DELETE CASCADE,
  host      text NOT NULL,
  revision  integer NOT NULL DEFAULT 0,
  seen_at   timestamptz,
  unread    text NOT NULL DEFAULT '',
  traits    json,
  rows      json NOT NULL DEFAULT '[]',
  applied   json NOT NULL DEFAULT '{}',
  version   bigint NOT NULL DEFAULT 0,
  PRIMARY KEY (ground_id, host)
);
CREATE TABLE surveys (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  ground_id   bigint NOT NULL REFERENCES grounds ON DELETE CASCADE,
  revision    integer NOT NULL,
  state       text NOT NULL DEFAULT 'queued',
  ask         json NOT NULL,
  error       text NOT NULL DEFAULT '',
  hosts       json NOT NULL DEFAULT '[]',
  steps       integer NOT NULL DEFAULT 0,
  blockers    integer NOT NULL DEFAULT 0,
  made_by     text NOT NULL,
  created_at  timestamptz NOT NULL DEFAULT now(),
  finished_at timestamptz
);
CREATE TABLE plans (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  ground_id   bigint NOT NULL REFERENCES grounds ON DELETE CASCADE,
  revision    integer NOT NULL,
  state       text NOT NULL DEFAULT 'queued',
  ask         json NOT NULL,
  error       text NOT NULL DEFAULT '',
  hosts       json NOT NULL DEFAULT '[]',
  steps       integer NOT NULL DEFAULT 0,
  blockers    integer NOT NULL DEFAULT 0,
  made_by     text NOT NULL,
  created_at  timestamptz NOT NULL DEFAULT now(),
  finished_at timestamptz
);
CREATE TABLE runs (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  ground_id   bigint NOT NULL REFERENCES grounds ON DELETE CASCADE,
  plan_id     bigint NOT NULL REFERENCES plans ON DELETE CASCADE,
  state       text NOT NULL DEFAULT 'queued',
  made_by     text NOT NULL,
  owner       text NOT NULL DEFAULT '',
  beat_at     timestamptz NOT NULL DEFAULT now(),
  created_at  timestamptz NOT NULL DEFAULT now(),
  finished_at timestamptz
);
CREATE TABLE run_hosts (
  run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
  host   text NOT NULL,
  doc    json NOT NULL,
  PRIMARY KEY (run_id, host)
);
CREATE TABLE events (
  id    bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  topic text NOT NULL,
  kind  text NOT NULL,
  data  json NOT NULL,
  at    timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX events_topic ON events (topic, id);
-- +goose StatementBegin
CREATE FUNCTION announce_event() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM pg_notify('northstake_events', NEW.topic);
  RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER announce AFTER INSERT ON events FOR EACH ROW EXECUTE FUNCTION announce_event();

-- +goose Down
DROP TABLE events, run_hosts, runs, plans, surveys, hosts, host_keys, tokens, secrets, blobs, revisions, grounds;
DROP FUNCTION announce_event;
