-- +goose Up
-- The events of a stream are numbered in the order in which they can be seen: whoever adds one
-- holds the stream until all can see it, so that no reader passes over an event.
-- +goose StatementBegin
CREATE FUNCTION number_event() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM pg_advisory_xact_lock(hashtextextended('northstake event ' || NEW.topic, 0));
  NEW.id := nextval(pg_get_serial_sequence('events', 'id'));
  RETURN NEW;
END $$;
-- +goose StatementEnd
CREATE TRIGGER number BEFORE INSERT ON events FOR EACH ROW EXECUTE FUNCTION number_event();

-- What a survey found is a record of its own. Rows are kept once, by their sum.
CREATE TABLE readings (
  sum  bytea PRIMARY KEY,
  rows bytea NOT NULL,
  at   timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE survey_hosts (
  survey_id bigint NOT NULL REFERENCES surveys ON DELETE CASCADE,
  host      text NOT NULL,
  doc       bytea NOT NULL,
  rows_sum  bytea NOT NULL DEFAULT '',
  PRIMARY KEY (survey_id, host)
);
CREATE INDEX survey_hosts_rows ON survey_hosts (rows_sum);
-- +goose StatementBegin
DO $$
BEGIN
  ALTER TABLE readings ALTER COLUMN rows SET COMPRESSION lz4;
EXCEPTION WHEN feature_not_supported THEN
  NULL;
END $$;
-- +goose StatementEnd
INSERT INTO readings (sum, rows) SELECT DISTINCT ON (rows_sum) rows_sum, rows FROM hosts WHERE rows_sum <> '';
INSERT INTO survey_hosts (survey_id, host, doc)
  SELECT DISTINCT ON (s.id, host) s.id, convert_from(e.data, 'UTF8')::json->>'host' AS host, e.data
  FROM surveys s JOIN events e ON e.topic = 'surveys/' || s.id AND e.kind = 'host' ORDER BY s.id, host, e.id DESC;

-- Whoever makes a survey or a plan says so from time to time.
ALTER TABLE surveys ADD COLUMN beat_at timestamptz NOT NULL DEFAULT now();
ALTER TABLE plans ADD COLUMN beat_at timestamptz NOT NULL DEFAULT now();
CREATE INDEX runs_plan ON runs (plan_id);

-- Why a run could not be begun, or carried to its end.
ALTER TABLE runs ADD COLUMN error text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE runs DROP COLUMN error;
DROP INDEX runs_plan;
ALTER TABLE plans DROP COLUMN beat_at;
ALTER TABLE surveys DROP COLUMN beat_at;
DROP TABLE survey_hosts, readings;
DROP TRIGGER number ON events;
DROP FUNCTION number_event;
