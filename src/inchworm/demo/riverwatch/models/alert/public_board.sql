/*---
about = "What the public sees: warnings without anybody's telephone number"
owner = "duty desk"
store = "view"
---*/
SELECT gauge_name, river, state, round(peak_cm) AS level_cm, round(highest_cm) AS expected_cm
FROM alert.current_warning
