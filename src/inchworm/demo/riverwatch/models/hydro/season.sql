/*---
about = "Usual levels per gauge and month"
owner = "hydrology"
store = "view"
---*/
SELECT
  gauge.gauge_id,
  gauge.river,
  month(level.hour) AS month,
  avg(level.mean_cm) AS usual_cm
FROM hydro.hourly_level AS level
JOIN hydro.gauge AS gauge USING (gauge_id)
GROUP BY ALL
