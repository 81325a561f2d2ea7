"""Other ways in which a notebook reads and writes tables than its helper: by their usual methods.

They work on connections of their own, so what they name may be in another database. It is followed
as far as tables of that name are known.
"""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator, Mapping
from enum import StrEnum
from typing import NamedTuple

from inchworm.kinds.constant_values import Names, texts_of


class Way(StrEnum):
    """What such a call does."""

    QUERY = "query"
    TABLE = "table"
    WRITE = "write"
    UNKNOWN = "unknown"


class Other(NamedTuple):
    """A call that reads or writes tables by a connection of its own.

    Attributes:
        text: the SQL, or the name of the table; of an unknown one, why it cannot be followed.
        called: the method, as it is written.
    """

    way: Way
    text: str
    called: str


_METHODS: Mapping[str, tuple[Way, str]] = {
    "read_sql": (Way.QUERY, "sql"),
    "read_sql_query": (Way.QUERY, "sql"),
    "read_database": (Way.QUERY, "query"),
    "read_database_uri": (Way.QUERY, "query"),
    "execute": (Way.QUERY, "statement"),
    "executemany": (Way.QUERY, "statement"),
    "sql": (Way.QUERY, "query"),
    "query": (Way.QUERY, "query"),
    "read_sql_table": (Way.TABLE, "table_name"),
    "table": (Way.TABLE, "tableName"),
    "to_sql": (Way.WRITE, "name"),
    "write_database": (Way.WRITE, "table_name"),
    "saveAsTable": (Way.WRITE, "name"),
    "insertInto": (Way.WRITE, "tableName"),
    "writeTo": (Way.WRITE, "table"),
}
"""Methods that read or write tables, with the parameter that says what."""
_TELLING = _METHODS.keys() - {"execute", "executemany", "sql", "query", "table", "writeTo"}
"""Methods that mean nothing else, whatever they are called on."""
_MODULES = (
    *("duckdb", "sqlite3", "psycopg", "psycopg2", "sqlalchemy", "pyodbc", "pymysql", "MySQLdb"),
    *("snowflake", "oracledb", "adbc_driver_manager", "pyspark", "databricks", "trino", "ibis"),
)
"""Modules whose objects run SQL."""
_READS = re.compile(
    r"\s*(?:--[^\n]*\n\s*|/\*.*?\*/\s*)*\(*\s*(?:SELECT|WITH|FROM|VALUES)\b",
    re.IGNORECASE | re.DOTALL,
)
_SPARK = "spark"
_TABLE = re.compile(r"\w+(?:\.\w+){1,2}")


def other_call(call: ast.Call, meant: str | None, names: Names) -> Iterator[Other]:
    """What a call reads or writes by a connection of its own, if it does.

    Args:
        call: the call.
        meant: the full dotted name of what is called, where it was imported.
        names: the possible values of names.
    """
    if not isinstance(call.func, ast.Attribute) or call.func.attr not in _METHODS:
        return
    method = call.func.attr
    way, parameter = _METHODS[method]
    if not (method in _TELLING or _runs_sql(call.func.value, meant)):
        return
    given = {keyword.arg: keyword.value for keyword in call.keywords}
    argument = call.args[0] if call.args else given.get(parameter)
    if argument is None:
        return
    texts = texts_of(_unwrapped(argument), names)
    called = f"{ast.unparse(call.func.value)[:40]}.{method}"
    if texts is None:
        yield Other(Way.UNKNOWN, f"the first argument of {called} is not constant", called)
        return
    schema = texts_of(given["schema"], names) if "schema" in given else None
    for text in texts:
        if way is Way.QUERY and not _READS.match(text):
            if _TABLE.fullmatch(text.strip()) and method == "read_sql":
                yield Other(Way.TABLE, text.strip(), called)
                continue
            words = " ".join(text.split())[:60]
            yield Other(Way.UNKNOWN, f"{called} runs {words!r} by a connection of its own", called)
            continue
        is_bare = way is not Way.QUERY and "." not in text
        yield Other(way, f"{schema[0]}.{text}" if schema and is_bare else text, called)


def _runs_sql(owner: ast.expr, meant: str | None) -> bool:
    """Whether an object is a connection, a cursor, or Spark's session."""
    if meant is not None:
        return meant.startswith(_MODULES)
    root = owner
    while isinstance(root, ast.Attribute | ast.Call):
        root = root.value if isinstance(root, ast.Attribute) else root.func
    return isinstance(root, ast.Name) and root.id == _SPARK


def _unwrapped(argument: ast.expr) -> ast.expr:
    """The text inside ``text("...")``, which tells a library that it is SQL."""
    match argument:
        case ast.Call(func=ast.Name(id="text") | ast.Attribute(attr="text"), args=[inner]):
            return inner
    return argument
