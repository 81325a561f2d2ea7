/*---
about = "The gauges, one row each"
owner = "hydrology"
store = "view"
key = ["gauge_id"]
[columns.bankfull_cm]
about = "Level at which the river leaves its bed"
unit = "cm"
required = true
---*/
SELECT gauge_id, name, river, easting_m, northing_m, bankfull_cm
FROM raw.gauge
