-- +goose Up
-- A survey writes tens of kilobytes for each host: once, in its stream, as bytes
-- that the database need not read, lightly compressed; and rows of a host that
-- are as they were, known by their sum, are not written again.
ALTER TABLE events ALTER COLUMN data TYPE bytea USING convert_to(data::text, 'UTF8');
ALTER TABLE hosts ALTER COLUMN rows DROP DEFAULT;
ALTER TABLE hosts ALTER COLUMN rows TYPE bytea USING convert_to(rows::text, 'UTF8');
ALTER TABLE hosts ALTER COLUMN rows SET DEFAULT '[]';
ALTER TABLE hosts ADD COLUMN rows_sum bytea NOT NULL DEFAULT '';
ALTER TABLE surveys DROP COLUMN hosts;
-- +goose StatementBegin
DO $$
BEGIN
  ALTER TABLE hosts ALTER COLUMN rows SET COMPRESSION lz4, ALTER COLUMN applied SET COMPRESSION lz4;
  ALTER TABLE events ALTER COLUMN data SET COMPRESSION lz4;
  ALTER TABLE plans ALTER COLUMN hosts SET COMPRESSION lz4;
EXCEPTION WHEN feature_not_supported THEN
  NULL; -- a PostgreSQL built without lz4 keeps its own compression
END $$;
-- +goose StatementEnd

-- +goose Down
ALTER TABLE surveys ADD COLUMN hosts json NOT NULL DEFAULT '[]';
ALTER TABLE hosts DROP COLUMN rows_sum;
ALTER TABLE hosts ALTER COLUMN rows DROP DEFAULT;
ALTER TABLE hosts ALTER COLUMN rows TYPE json USING convert_from(rows, 'UTF8')::json;
ALTER TABLE hosts ALTER COLUMN rows SET DEFAULT '[]';
ALTER TABLE events ALTER COLUMN data TYPE json USING convert_from(data, 'UTF8')::json;
