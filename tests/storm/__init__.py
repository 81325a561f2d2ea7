"""The storm: random months of a team, judged by an independent model of the truth.

Run it with ``python -m tests.storm --minutes 60 --seed 1 [--database duckdb]``. A month that goes
wrong is shrunk to a few deeds and printed as commands and statements.
"""
