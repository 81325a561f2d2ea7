"""Any structure can become any other, in every database, and keeps the rows that it can keep."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, event, given, settings
from hypothesis import strategies as st

from inchworm.core.structure.change import under_schema
from inchworm.core.structure.changes import Change, in_the_way
from inchworm.core.structure.definitions import Definition, Thing
from inchworm.core.structure.shape_reading import shape_of
from inchworm.targets.databases import Database, connect
from tests import postgres
from tests.structures import TABLES, Col, Struct, Tab, structs

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
    with database.scratch_database("ops") as (board, name):
        for statement in struct.script(database.dialect):
            board.execute(statement.replace("ops.", f"{name}."))
        return [under_schema(d, name, "ops") for d in board.definitions([name])]


def alike(definitions: list[Definition], dialect: str) -> dict[str, Any]:
    """What counts of a structure: all but the order of columns and constraints."""
    found: dict[str, Any] = {}
    for d in definitions:
        shape = d.shape or (shape_of(d.sql, dialect) if d.thing is Thing.TABLE else None)
        if shape is None:
            found[d.key] = d.sql
        else:
            columns = sorted(shape.columns, key=lambda c: c.name)
            found[d.key] = (columns, sorted(shape.constraints.values()), shape.options)
    return found


def fill(database: Database, struct: Struct) -> None:
    """Rows whose values are whole numbers, different in each."""
    for name in TABLES:
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


def carry_out(database: Database, changes: list[Change], wanted: list[Definition]) -> None:
    """First what comes, then what goes; in between just that is left to do."""
    early, late = ([c for c in changes if c.late is is_late] for is_late in (False, True))
    for some in (early, late):
        with database.restructuring(in_the_way(some)):
            for change in some:
                for statement in change.statements:
                    database.execute(statement)
        if some is early:
            live = database.definitions(["ops"])
            left = database.changes("ops", live, wanted, {})
            assert [c.statements for c in left] == [c.statements for c in late]


def become(database: Database, struct: Struct) -> list[Change]:
    """Work out the change, and carry it out."""
    wanted = told(database, struct)
    live = database.definitions(["ops"])
    changes = database.changes("ops", live, wanted, {})
    dialect = database.dialect
    assert not (changes and alike(live, dialect) == alike(wanted, dialect))
    carry_out(database, changes, wanted)
    return changes


@pytest.fixture(params=KINDS)
def kind(request: pytest.FixtureRequest) -> str:
    return str(request.param)


@pytest.fixture
def server(kind: str, request: pytest.FixtureRequest) -> str | None:
    return str(request.getfixturevalue("postgres_server")) if kind == "postgresql" else None


@given(data=st.data())
@settings(
    max_examples=settings().max_examples // 4,  # each makes two databases
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
        for change in become(database, other):
            event(change.what.split()[0])
        now = alike(database.definitions(["ops"]), dialect)
        assert now == alike(told(database, other), dialect)
        after = contents(database, other)
        for name, values in before.items():
            table, _, column = name.partition(".")
            stays = table in other.tables and column in other.tables[table].columns
            if stays and not other.tables[table].columns[column].generated:
                assert after[name] == values, name


def test_triggers_of_sqlite_are_put_on_again(tmp_path: Path) -> None:
    """They go with their table when it is made anew."""
    database = connect("sqlite:///d.sqlite", root=tmp_path)
    database.create_schema("ops")
    database.execute("CREATE TABLE ops.t (x INTEGER, seen INTEGER)")
    database.execute(
        "CREATE TRIGGER ops.sees AFTER INSERT ON t BEGIN UPDATE t SET seen = 1 WHERE x = new.x; END"
    )
    become(database, Struct({"t": Tab(columns={"x": Col("BIGINT"), "seen": Col("INTEGER")})}))
    database.execute("INSERT INTO ops.t (id, x) VALUES (1, 5)")
    assert database.rows("SELECT x, seen FROM ops.t") == [(5, 1)]
    database.close()


def test_names_change_and_values_stay(kind: str, server: str | None) -> None:
    """Of a table, of a column in it, and of what points at it."""
    one = Struct({"gauge": Tab({"a": Col("INTEGER")}), "river": Tab({}, points_to="gauge")})
    other = Struct({"basin": Tab({"b": Col("INTEGER")}), "river": Tab({}, points_to="basin")})
    renames = {"gauge": "basin", "basin.a": "b"}
    with empty(kind, server) as database:
        for statement in one.script(database.dialect):
            database.execute(statement)
        fill(database, one)
        wanted = told(database, other)
        live = database.definitions(["ops"])
        changes = database.changes("ops", live, wanted, renames)
        carry_out(database, changes, wanted)
        now = alike(database.definitions(["ops"]), database.dialect)
        assert now == alike(wanted, database.dialect)
        assert database.rows("SELECT id, b FROM ops.basin ORDER BY 1") == [(1, 1), (2, 2), (3, 3)]
        assert database.rows("SELECT count(*) FROM ops.river") == [(3,)]
