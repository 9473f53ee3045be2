-- +goose Up
-- Content is named by its root; what could not be read is counted with a plan.
UPDATE hosts SET version = version + 1, applied = (
  SELECT coalesce(json_object_agg(
    CASE WHEN v->>'type' = 'content' THEN 'content' || (v->'want'->>'root') ELSE k END,
    CASE WHEN v->>'type' = 'content' THEN (v::jsonb || jsonb_build_object('name', v->'want'->>'root'))::json ELSE v END), '{}')
  FROM json_each(applied) AS each(k, v));
ALTER TABLE plans ADD COLUMN unread integer NOT NULL DEFAULT 0;
ALTER TABLE surveys ADD COLUMN unread integer NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE surveys DROP COLUMN unread;
ALTER TABLE plans DROP COLUMN unread;
