/*---
about = "Gauges that are not normal, with what is expected of them"
owner = "duty desk"
store = "view"
---*/
SELECT
  flood.gauge_id,
  gauge.name AS gauge_name,
  gauge.river,
  flood.state,
  flood.peak_cm,
  flood.rise_cm,
  expected.highest_cm
FROM alert.flood_state AS flood
JOIN hydro.gauge AS gauge USING (gauge_id)
LEFT JOIN (
  SELECT gauge_id, max(forecast_cm) AS highest_cm
  FROM hydro.level_forecast
  GROUP BY gauge_id
) AS expected USING (gauge_id)
WHERE flood.state <> 'normal'
