/*---
about = "People who want to be told about a gauge"
---*/
CREATE TABLE ops.subscriber (
  subscriber_id INTEGER PRIMARY KEY,
  gauge_id INTEGER NOT NULL,
  phone VARCHAR NOT NULL,
  since DATE NOT NULL
);
