/*---
about = "How much each gauge has risen or fallen"
owner = "hydrology"
store = "table"
key = ["gauge_id", "hour"]
---*/
SELECT
  gauge_id,
  hour,
  mean_cm,
  mean_cm - lag(mean_cm, :trend_hours) OVER by_hour AS rise_cm
FROM hydro.hourly_level
WINDOW by_hour AS (PARTITION BY gauge_id ORDER BY hour)
