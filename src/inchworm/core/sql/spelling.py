"""How a name is spelled in SQL. The parser is not needed for it."""

from __future__ import annotations


def spelled(name: str) -> str:
    """A name as it can stand in SQL: in double quotes only where it needs them."""
    is_plain = name.isidentifier() and name == name.lower() and name.isascii()
    return name if is_plain and name not in _RESERVED else '"' + name.replace('"', '""') + '"'


_RESERVED = frozenset(
    """
    all analyse analyze and any array as asc asymmetric authorization binary both case cast
    check collate collation column concurrently constraint create cross current_catalog
    current_date current_role current_schema current_time current_timestamp current_user
    default deferrable desc distinct do else end except false fetch for foreign freeze from
    full grant group having ilike in initially inner intersect into is isnull join lateral
    leading left like limit localtime localtimestamp natural not notnull null offset on only
    or order outer overlaps placing primary references returning right select session_user
    similar some symmetric system_user table tablesample then to trailing true union unique
    user using variadic verbose when where window with
    alter between drop exclude force glob insert install map partitioned_by positional qualify
    regexp revoke rlike rollback summarize uncache values xor
    """.split()  # noqa: SIM905  as a list it would fill a page
)
