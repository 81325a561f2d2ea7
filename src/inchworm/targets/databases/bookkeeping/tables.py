"""The tables of the bookkeeping, as statements with the schema to fill in."""

from __future__ import annotations

DUE_TIMES = """CREATE TABLE IF NOT EXISTS {schema}.due_times (
    project VARCHAR NOT NULL, schedule VARCHAR NOT NULL, due VARCHAR NOT NULL)"""
"""Made also by a run, where an older version promoted."""


TABLES = (
    """CREATE TABLE IF NOT EXISTS {schema}.parts (
    project VARCHAR NOT NULL, part VARCHAR NOT NULL, bundle VARCHAR NOT NULL,
    digest VARCHAR NOT NULL, content VARCHAR NOT NULL, commit_id VARCHAR,
    promotion VARCHAR NOT NULL, put_at VARCHAR NOT NULL, interface VARCHAR NOT NULL,
    recipe VARCHAR, structure VARCHAR, built_on VARCHAR)""",
    """CREATE TABLE IF NOT EXISTS {schema}.migrations (
    project VARCHAR NOT NULL, schema_name VARCHAR NOT NULL, name VARCHAR NOT NULL,
    checksum VARCHAR NOT NULL, outcome VARCHAR NOT NULL, promotion VARCHAR NOT NULL,
    ran_at VARCHAR NOT NULL, ran_by VARCHAR NOT NULL, seconds DOUBLE PRECISION NOT NULL,
    script VARCHAR)""",
    """CREATE TABLE IF NOT EXISTS {schema}.promotions (
    project VARCHAR NOT NULL, promotion VARCHAR NOT NULL, bundle VARCHAR NOT NULL,
    digest VARCHAR NOT NULL, commit_id VARCHAR,
    done_by VARCHAR NOT NULL, done_at VARCHAR NOT NULL, number INTEGER, undoes VARCHAR,
    exception VARCHAR, mixture VARCHAR, rules VARCHAR, circumstances VARCHAR)""",
    """CREATE TABLE IF NOT EXISTS {schema}.steps (
    promotion VARCHAR NOT NULL, step INTEGER NOT NULL, done_at VARCHAR NOT NULL)""",
    """CREATE TABLE IF NOT EXISTS {schema}.structures (
    project VARCHAR NOT NULL, thing VARCHAR NOT NULL, name VARCHAR NOT NULL,
    of_schema INTEGER NOT NULL, definition VARCHAR NOT NULL, put_at VARCHAR NOT NULL,
    relation VARCHAR)""",
    """CREATE TABLE IF NOT EXISTS {schema}.unrecorded (
    project VARCHAR NOT NULL, schema_name VARCHAR NOT NULL)""",
    """CREATE TABLE IF NOT EXISTS {schema}.aside (
    project VARCHAR NOT NULL, name VARCHAR NOT NULL, purpose VARCHAR NOT NULL,
    of_name VARCHAR NOT NULL, promotion VARCHAR NOT NULL, digest VARCHAR)""",
    """CREATE TABLE IF NOT EXISTS {schema}.environments (
    project VARCHAR NOT NULL, environment VARCHAR NOT NULL,
    claims INTEGER NOT NULL, claimed_by VARCHAR NOT NULL)""",
    """CREATE TABLE IF NOT EXISTS {schema}.ledgers (
    project VARCHAR NOT NULL, ledger VARCHAR NOT NULL,
    entries INTEGER NOT NULL, hash VARCHAR NOT NULL)""",
    DUE_TIMES,
    """CREATE TABLE IF NOT EXISTS {schema}.holds (
    project VARCHAR NOT NULL, part VARCHAR NOT NULL, because VARCHAR NOT NULL,
    until VARCHAR, held_by VARCHAR NOT NULL, held_at VARCHAR NOT NULL)""",
    """CREATE TABLE IF NOT EXISTS {schema}.api_versions (
    project VARCHAR NOT NULL, flow VARCHAR NOT NULL, version VARCHAR NOT NULL,
    number INTEGER NOT NULL, document VARCHAR NOT NULL, put_at VARCHAR NOT NULL,
    is_live INTEGER NOT NULL, requests INTEGER NOT NULL, requested_at VARCHAR NOT NULL)""",
    """CREATE TABLE IF NOT EXISTS {schema}.pauses (
    project VARCHAR NOT NULL, what VARCHAR NOT NULL, because VARCHAR NOT NULL,
    until VARCHAR, paused_by VARCHAR NOT NULL, paused_at VARCHAR NOT NULL,
    resumed_by VARCHAR, resumed_at VARCHAR)""",
    """CREATE TABLE IF NOT EXISTS {schema}.schedules (
    project VARCHAR NOT NULL, schedule VARCHAR NOT NULL,
    state VARCHAR NOT NULL, set_at VARCHAR NOT NULL)""",
)

COLUMNS_ADDED = (
    ("migrations", "script", "VARCHAR"),
    ("promotions", "number", "INTEGER"),
    ("parts", "recipe", "VARCHAR"),
    ("parts", "structure", "VARCHAR"),
    ("environments", "watches", "INTEGER"),
    ("promotions", "undoes", "VARCHAR"),
    ("aside", "digest", "VARCHAR"),
    ("promotions", "exception", "VARCHAR"),
    ("promotions", "mixture", "VARCHAR"),
    ("promotions", "rules", "VARCHAR"),
    ("environments", "owner", "VARCHAR"),
    ("parts", "built_on", "VARCHAR"),
    ("structures", "relation", "VARCHAR"),
    ("promotions", "circumstances", "VARCHAR"),
)
"""Columns that were added to tables after their first version: table, name and type.

They stand in the order in which they came, so where the last is there, all are.
"""
