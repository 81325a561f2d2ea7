/*---
about = "Thresholds and readings taken by hand"
baseline = true
---*/
CREATE TABLE ops.threshold (
  gauge_id INTEGER NOT NULL,
  state VARCHAR NOT NULL,
  from_cm DOUBLE NOT NULL
);

CREATE TABLE ops.hand_reading (
  gauge_id INTEGER NOT NULL,
  taken_at TIMESTAMP NOT NULL,
  level_cm DOUBLE NOT NULL,
  observer VARCHAR
);
