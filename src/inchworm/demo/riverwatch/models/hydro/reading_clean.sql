/*---
about = "Readings of good quality, by sensor or by hand, without spikes"
owner = "hydrology"
store = "table"
[columns.gauge_id]
required = true
points_to = "hydro.gauge.gauge_id"
[columns.taken_at]
required = true
[columns.level_cm]
about = "Level above the gauge's zero"
unit = "cm"
required = true
between = [-100, 1500]
[columns.source]
one_of = ["sensor", "hand"]
---*/
WITH sensor AS (
  SELECT gauge_id, taken_at, level_cm
  FROM raw.reading
  WHERE quality = 'good'
    AND level_cm < :spike_limit_cm
)
SELECT gauge_id, taken_at, level_cm, 'sensor' AS source
FROM sensor
WHERE taken_at >= :readings_from
UNION ALL
SELECT gauge_id, taken_at, level_cm, 'hand' AS source
FROM ops.hand_reading
WHERE taken_at >= :readings_from
