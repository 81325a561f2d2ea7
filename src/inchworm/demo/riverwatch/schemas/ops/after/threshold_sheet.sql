/*---
about = "The thresholds of a gauge on one line, for the duty desk's wall"
---*/
CREATE OR REPLACE VIEW ops.threshold_sheet AS
SELECT
  gauge_id,
  max(from_cm) FILTER (WHERE state = 'watch') AS watch_cm,
  max(from_cm) FILTER (WHERE state = 'warning') AS warning_cm,
  max(from_cm) FILTER (WHERE state = 'flood') AS flood_cm
FROM ops.threshold
GROUP BY gauge_id;
