/*---
about = "A threshold for every gauge and state, as shares of the bankfull level"
---*/
INSERT INTO ops.threshold (gauge_id, state, from_cm)
SELECT gauge.gauge_id, share.state, round(gauge.bankfull_cm * share.part)
FROM raw.gauge AS gauge
CROSS JOIN (VALUES ('watch', 0.70), ('warning', 0.85), ('flood', 1.00)) AS share(state, part);
