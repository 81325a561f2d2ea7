/*---
about = "The state of every gauge at its latest hour"
owner = "duty desk"
store = "table"
key = ["gauge_id"]
[columns.state]
required = true
one_of = ["normal", "watch", "warning", "flood"]
---*/
WITH latest AS (
  SELECT level.gauge_id, level.hour, level.peak_cm, trend.rise_cm
  FROM hydro.hourly_level AS level
  JOIN hydro.level_trend AS trend USING (gauge_id, hour)
  QUALIFY row_number() OVER (PARTITION BY level.gauge_id ORDER BY level.hour DESC) = 1
), reached AS (
  SELECT
    latest.gauge_id,
    max_by(threshold.state, threshold.from_cm) AS state
  FROM latest
  JOIN ops.threshold AS threshold
    ON threshold.gauge_id = latest.gauge_id AND latest.peak_cm >= threshold.from_cm
  GROUP BY latest.gauge_id
)
SELECT
  latest.gauge_id,
  latest.hour,
  latest.peak_cm,
  latest.rise_cm,
  CASE
    WHEN reached.state IS NOT NULL THEN reached.state
    WHEN latest.rise_cm >= :rise_warning_cm THEN 'watch'
    ELSE 'normal'
  END AS state
FROM latest
LEFT JOIN reached ON reached.gauge_id = latest.gauge_id
