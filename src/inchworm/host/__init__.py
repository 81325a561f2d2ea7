"""The host: one process that runs the schedules of environments, and tells how they stand."""
