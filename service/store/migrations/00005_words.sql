-- +goose Up
-- A revision is read in the words that it was written in.
ALTER TABLE revisions ADD COLUMN words integer NOT NULL DEFAULT 1;

-- +goose Down
ALTER TABLE revisions DROP COLUMN words;
