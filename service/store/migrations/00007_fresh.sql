-- +goose Up
-- Of what a run has brought about where nothing of it was, releases before kept no word with the
-- stake, but with the plan of the first run that did: what was found there then. Without it,
-- nothing of theirs could be taken away. Content goes when it is named, whatever was there.
-- +goose StatementBegin
CREATE FUNCTION each_of(list json) RETURNS SETOF json LANGUAGE sql AS $$
  SELECT json_array_elements(CASE WHEN json_typeof(list) = 'array' THEN list ELSE '[]' END) -- what is empty may be null
$$;
-- +goose StatementEnd
-- +goose StatementBegin
WITH planned AS MATERIALIZED (
  SELECT p.id AS plan_id, ph->>'host' AS host, ph->'steps' AS steps, ph->'rows' AS rows
  FROM plans p CROSS JOIN LATERAL each_of(p.hosts) AS ph WHERE p.id IN (SELECT plan_id FROM runs)
), step AS (
  SELECT plan_id, host, st->>'number' AS number, st->>'address' AS address, st->'also' AS also FROM planned CROSS JOIN LATERAL each_of(steps) AS st
), done AS (
  SELECT r.ground_id, r.id AS run, r.plan_id, rh.host, d->>'number' AS number
  FROM runs r JOIN run_hosts rh ON rh.run_id = r.id CROSS JOIN LATERAL each_of(rh.doc->'steps') AS d WHERE d->>'state' = 'done'
), worked AS MATERIALIZED (
  SELECT ground_id, run, plan_id, host, address, also FROM done JOIN step USING (plan_id, host, number)
), brought AS (
  SELECT ground_id, run, plan_id, host, address FROM worked
  UNION ALL
  SELECT ground_id, run, plan_id, host, a #>> '{}' FROM worked CROSS JOIN LATERAL each_of(also) AS a
), begun AS (
  SELECT DISTINCT ON (ground_id, host, address) ground_id, plan_id, host, address FROM brought WHERE address IS NOT NULL ORDER BY ground_id, host, address, run
), absent AS (
  SELECT DISTINCT plan_id, host, found->>'address' AS address FROM planned CROSS JOIN LATERAL each_of(rows) AS found
  WHERE found->'differences'->0->>'found' IN ('nothing', 'absent', 'not there', 'no such unit')
), fresh AS MATERIALIZED (
  SELECT ground_id, host, substr(address, length(host) + 2) AS stake FROM begun JOIN absent USING (plan_id, host, address)
)
UPDATE hosts h SET version = version + 1, applied = (
  SELECT json_object_agg(k, CASE
    WHEN v->>'made' = 'true' AND v->'fresh' IS NULL AND v->>'type' <> 'content'
      AND EXISTS (SELECT FROM fresh f WHERE f.ground_id = h.ground_id AND f.host = h.host AND f.stake = k)
    THEN (v::jsonb || '{"fresh": true}')::json ELSE v END)
  FROM json_each(applied) AS each(k, v))
WHERE EXISTS (SELECT FROM fresh f WHERE f.ground_id = h.ground_id AND f.host = h.host) AND json_typeof(applied) = 'object' AND applied::text <> '{}';
-- +goose StatementEnd
DROP FUNCTION each_of(json);

-- +goose Down
SELECT 1; -- what is known stays known
