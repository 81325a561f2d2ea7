CREATE TABLE raw.gauge (
  gauge_id INTEGER NOT NULL,
  name VARCHAR NOT NULL,
  river VARCHAR NOT NULL,
  easting_m INTEGER,
  northing_m INTEGER,
  bankfull_cm DOUBLE
);

CREATE TABLE raw.reading (
  gauge_id INTEGER NOT NULL,
  taken_at TIMESTAMP NOT NULL,
  level_cm DOUBLE,
  quality VARCHAR
);
