/*---
about = "Mean and highest level per gauge and hour"
owner = "hydrology"
store = "table"
key = ["gauge_id", "hour"]
[columns.mean_cm]
about = "Mean level in the hour"
unit = "cm"
required = true
[columns.peak_cm]
about = "Highest level in the hour"
unit = "cm"
required = true
between = [-100, 2000]
---*/
SELECT
  gauge_id,
  date_trunc('hour', taken_at) AS hour,
  avg(level_cm) AS mean_cm,
  max(level_cm) AS peak_cm,
  count(*) AS readings
FROM hydro.reading_clean
GROUP BY 1, 2
