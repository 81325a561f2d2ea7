"""Any structure can become any other, in every database, and keeps the rows that it can keep."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, event, given, note, settings
from hypothesis import strategies as st

from inchworm.core.structure.change import Renames, under_schema
from inchworm.core.structure.definitions import Definition
from inchworm.core.structure.wanted import changes_between, in_the_way
from inchworm.targets.databases import Database, connect
from tests import postgres
from tests.structures import Struct, structs

ROWS = 3
KINDS = ("duckdb", "sqlite", "postgresql")


@contextmanager
def empty(kind: str, server: str | None) -> Iterator[Database]:
    """An empty database with the schema ``ops``."""
    if kind == "postgresql":
        assert server is not None
        with postgres.database(server) as address:
            database = connect(address, root=Path())
            database.create_schema("ops")
            yield database
            database.close()
        return
    with tempfile.TemporaryDirectory() as folder:
        database = connect(f"{kind}:///d.{kind}", root=Path(folder))
        database.create_schema("ops")
        yield database
        database.close()


def told(database: Database, struct: Struct) -> list[Definition]:
    """A structure in the database's own words."""
    with database.scratch("ops") as (board, name):
        for statement in struct.script(database.dialect):
            board.execute(statement.replace("ops.", f"{name}."))
        return [under_schema(d, name, "ops") for d in board.definitions([name])]


def alike(definitions: list[Definition]) -> dict[str, Any]:
    """What counts of a structure: all but the order of columns and constraints."""
    found: dict[str, Any] = {}
    for d in definitions:
        if d.shape is None:
            found[d.key] = d.sql
        else:
            columns = sorted(d.shape.columns, key=lambda c: c.name)
            found[d.key] = (columns, sorted(d.shape.constraints.values()), d.shape.options)
    return found


def fill(database: Database, struct: Struct) -> None:
    """Rows whose values are whole numbers, different in each."""
    for name in ("gauge", "reading", "river", "station"):
        if name not in struct.tables:
            continue
        plain = [n for n, c in struct.tables[name].columns.items() if not c.generated]
        names = ", ".join(["id", *(f'"{n}"' for n in plain)])
        for i in range(1, ROWS + 1):
            values = ", ".join([str(i), *(f"'{i}'" for _ in plain)])
            database.execute(f"INSERT INTO ops.{name} ({names}) VALUES ({values})")


def contents(database: Database, struct: Struct) -> dict[str, list[int | None]]:
    """The values of every plain column, as whole numbers, in the order of the rows' ids."""
    return {
        f"{name}.{column}": [
            None if row[0] is None else round(float(row[0]))
            for row in database.rows(f'SELECT "{column}" FROM ops.{name} ORDER BY id')
        ]
        for name, table in struct.tables.items()
        for column, shape in table.columns.items()
        if not shape.generated
    }


def become(database: Database, struct: Struct, renames: Renames | None = None) -> None:
    """Work out the change, and carry it out."""
    wanted = told(database, struct)
    live = database.definitions(["ops"])
    changes = changes_between(live, wanted, database.dialect, renames or Renames())
    assert not (changes and alike(live) == alike(wanted))
    early = [c for c in changes if not c.late]
    for some in (early, [c for c in changes if c.late]):
        with database.restructuring(in_the_way(some)):
            for change in some:
                for statement in change.statements:
                    note(statement)
                    database.execute(statement)
    event(f"changes: {min(len(changes), 10)}")
    for change in changes:
        event(change.what.split()[0])


@pytest.fixture(params=KINDS)
def kind(request: pytest.FixtureRequest) -> str:
    return str(request.param)


@pytest.fixture
def server(kind: str, request: pytest.FixtureRequest) -> str | None:
    return str(request.getfixturevalue("postgres_server")) if kind == "postgresql" else None


@given(data=st.data())
@settings(
    max_examples=40,
    deadline=None,
    report_multiple_bugs=False,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
def test_any_structure_becomes_any_other(
    data: st.DataObject, kind: str, server: str | None
) -> None:
    """Read back from the database; and no row of a column that stays changes."""
    dialect = {"postgresql": "postgres"}.get(kind, kind)
    one = data.draw(structs(dialect), "one")
    other = data.draw(structs(dialect), "other").that_rows_of(one)
    with empty(kind, server) as database:
        for statement in one.script(dialect):
            database.execute(statement)
        fill(database, one)
        before = contents(database, one)
        become(database, other)
        assert alike(database.definitions(["ops"])) == alike(told(database, other))
        after = contents(database, other)
        for name, values in before.items():
            table, _, column = name.partition(".")
            stays = table in other.tables and column in other.tables[table].columns
            if stays and not other.tables[table].columns[column].generated:
                assert after[name] == values, name
