/*---
about = "Who has to be told what"
owner = "duty desk"
store = "view"
[columns.phone]
about = "Telephone number of the subscriber"
---*/
SELECT subscriber.phone, warning.gauge_name, warning.state
FROM alert.current_warning AS warning
JOIN ops.subscriber AS subscriber USING (gauge_id)
