/*---
about = "Every gauge reports as recently as the others"
owner = "telemetry"
severity = "warning"
message = "gauges that have stopped reporting"
---*/
WITH latest AS (
  SELECT gauge_id, max(taken_at) AS last_at
  FROM hydro.reading_clean
  GROUP BY gauge_id
)
SELECT gauge_id, last_at
FROM latest
WHERE last_at < (SELECT max(last_at) FROM latest) - to_days(:silent_days)
