-- +goose Up
-- What is surveyed and worked on is a place, of which a host is one sort. Keys are those of hosts.
ALTER TABLE hosts RENAME TO places;
ALTER TABLE places RENAME COLUMN host TO place;
ALTER TABLE run_hosts RENAME TO run_places;
ALTER TABLE run_places RENAME COLUMN host TO place;
ALTER TABLE survey_hosts RENAME TO survey_places;
ALTER TABLE survey_places RENAME COLUMN host TO place;
ALTER INDEX survey_hosts_rows RENAME TO survey_places_rows;
ALTER TABLE plans RENAME COLUMN hosts TO places;

-- +goose Down
ALTER TABLE plans RENAME COLUMN places TO hosts;
ALTER INDEX survey_places_rows RENAME TO survey_hosts_rows;
ALTER TABLE survey_places RENAME COLUMN place TO host;
ALTER TABLE survey_places RENAME TO survey_hosts;
ALTER TABLE run_places RENAME COLUMN place TO host;
ALTER TABLE run_places RENAME TO run_hosts;
ALTER TABLE places RENAME COLUMN place TO host;
ALTER TABLE places RENAME TO hosts;
