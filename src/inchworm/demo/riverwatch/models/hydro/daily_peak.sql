/*---
about = "Highest level per gauge and day, and when it stood"
owner = "hydrology"
store = "table"
key = ["gauge_id", "day"]
---*/
SELECT
  gauge_id,
  CAST(hour AS DATE) AS day,
  max(peak_cm) AS peak_cm,
  arg_max(hour, peak_cm) AS peak_hour
FROM hydro.hourly_level
GROUP BY gauge_id, CAST(hour AS DATE)
