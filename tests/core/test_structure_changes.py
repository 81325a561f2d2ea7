"""Changes of a structure: renames, types that keep their values, names of a scratch schema."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from inchworm.core.errors import ProjectError
from inchworm.core.structure.change import (
    Renames,
    keeps_values,
    renames_that_apply,
    renaming,
    sql_name,
    tables_of,
    under_schema,
)
from inchworm.core.structure.changes import Change, Demand, Effect, in_the_way, late_last
from inchworm.core.structure.definitions import Definition, Thing
from inchworm.core.structure.shapes import ColumnShape, TableShape


def table(name: str, *columns: str) -> Definition:
    inside = ", ".join(f"{column} INT" for column in columns)
    return Definition(thing=Thing.TABLE, name=name, sql=f"CREATE TABLE {name} ({inside})")


LIVE = [table("ops.gauge", "id", "river"), table("ops.station", "id")]


@pytest.mark.parametrize(
    ("old", "new", "keeps"),
    [
        ("INT", "INT", True),
        ("INT", "BIGINT", True),
        ("BIGINT", "INT", False),
        ("TINYINT", "HUGEINT", True),
        ("INT", "TEXT", True),
        ("DATE", "VARCHAR", True),
        ("TEXT", "INT", False),
        ("VARCHAR(10)", "VARCHAR(10)", True),
        ("VARCHAR(10)", "VARCHAR(20)", True),
        ("VARCHAR(20)", "VARCHAR(10)", False),
        ("VARCHAR", "VARCHAR(10)", False),
        ("VARCHAR(10)", "VARCHAR", True),
        ("DECIMAL(10, 2)", "DECIMAL(12, 4)", True),
        ("DECIMAL(10, 2)", "DECIMAL(12, 5)", False),
        ("DECIMAL(10, 2)", "DECIMAL(10, 1)", False),
        ("DECIMAL(10, 2)", "DECIMAL(9, 2)", False),
        ("DECIMAL(10, 2)", "NUMERIC(10, 2)", True),
        ("DECIMAL", "DECIMAL(10, 2)", False),
        ("REAL", "DOUBLE", True),
        ("REAL", "DOUBLE PRECISION", True),
        ("DOUBLE", "REAL", False),
        ("DATE", "TIMESTAMP", True),
        ("TIMESTAMP", "DATE", False),
        ("INT", "DOUBLE", False),
        ("SOMETHING", "ELSE", False),
    ],
)
def test_types_that_keep_every_value(old: str, new: str, keeps: bool) -> None:
    """What is not known to keep them does not."""
    assert keeps_values(old, new) is keeps


def test_a_table_and_its_column_are_renamed_while_the_old_names_are_there() -> None:
    """The column is told by the table's new name; done once, they do not apply any more."""
    desired = [table("ops.site", "id", "stream"), table("ops.station", "id")]
    declared = {"gauge": "site", "site.river": "stream"}
    renames = renames_that_apply(declared, LIVE, desired, "duckdb")
    assert renames == Renames(
        tables={"ops.site": "ops.gauge"}, columns={("ops.site", "stream"): "river"}
    )
    assert bool(renames)
    assert renames.table_before("ops.site") == "ops.gauge"
    assert renames.table_before("ops.station") == "ops.station"
    assert renames.column_before("ops.site", "stream") == "river"
    assert renames.column_before("ops.site", "id") == "id"
    assert renaming(renames) == [
        Change(
            what="rename table",
            name="ops.gauge",
            statements=("ALTER TABLE ops.gauge RENAME TO site",),
        ),
        Change(
            what="rename column",
            name="ops.site.river",
            statements=("ALTER TABLE ops.site RENAME COLUMN river TO stream",),
        ),
    ]
    again = renames_that_apply(declared, desired, desired, "duckdb")
    assert again == Renames()
    assert not again


NOT_APPLYING = {
    "nothing declared": ({}, ("gauge", "id", "river")),
    "old table stays": ({"gauge": "site"}, ("gauge", "id", "river")),
    "new table is there": ({"gauge": "station"}, ("other", "id")),
    "no such table": ({"weir": "gauge"}, ("gauge", "id", "river")),
    "column stays": ({"gauge.river": "stream"}, ("gauge", "id", "river", "stream")),
    "new column is there": ({"gauge.river": "id"}, ("gauge", "id")),
    "no such column": ({"gauge.depth": "stream"}, ("gauge", "id", "river", "stream")),
    "new column is not desired": ({"gauge.river": "stream"}, ("gauge", "id")),
    "no such table of the column": ({"weir.river": "stream"}, ("gauge", "id", "stream")),
}


@pytest.mark.parametrize(("declared", "gauge"), NOT_APPLYING.values(), ids=NOT_APPLYING.keys())
def test_renames_that_do_not_apply(declared: dict[str, str], gauge: tuple[str, ...]) -> None:
    """A name that stays, that is taken, or that is nowhere."""
    desired = [table(f"ops.{gauge[0]}", *gauge[1:]), table("ops.station", "id")]
    assert renames_that_apply(declared, LIVE, desired, "duckdb") == Renames()


def test_names_that_are_words_of_sql_are_quoted() -> None:
    """Those of schemas and tables alike."""
    assert sql_name("ops.gauge") == "ops.gauge"
    assert sql_name("ops.Gauge x") == 'ops."Gauge x"'
    (change,) = renaming(Renames(tables={"ops.New One": "ops.Old.One"}))
    assert change.statements == ('ALTER TABLE ops."Old.One" RENAME TO "New One"',)


def test_the_shapes_of_tables_are_read_where_the_database_does_not_tell_them() -> None:
    """And those that it tells are taken as they are."""
    shape_told = TableShape(columns=(ColumnShape(name="x", type="INT"),))
    given = Definition(thing=Thing.TABLE, name="ops.t", sql="?", shape=shape_told)
    index = Definition(thing=Thing.INDEX, name="ops.i", sql="CREATE INDEX i ON ops.gauge (id)")
    tables = tables_of([*LIVE, given, index], "duckdb")
    assert set(tables) == {"ops.gauge", "ops.station", "ops.t"}
    assert tables["ops.t"] is given
    shape = tables["ops.gauge"].shape
    assert shape is not None
    assert list(shape.by_name) == ["id", "river"]


def test_a_table_that_is_not_understood_is_refused() -> None:
    """Under its name, with the way out."""
    odd = Definition(thing=Thing.TABLE, name="ops.odd", sql="CREATE TABLE ops.odd AS SELECT 1")
    with pytest.raises(ProjectError) as raised:
        tables_of([odd], "duckdb")
    assert str(raised.value) == (
        "the structure of ops.odd is not understood, so no change to it can be worked out. "
        'Manage its schema with managed = "migrations".'
    )


def test_what_was_made_in_a_scratch_schema_is_told_under_the_real_one() -> None:
    """Wherever the scratch schema's name stands."""
    shape = TableShape(
        columns=(
            ColumnShape(name="a", type="scratch_1.kind", default="nextval('scratch_1.s')"),
            ColumnShape(name="b", type="INT", generated="scratch_1.f(a)"),
        ),
        constraints={"scratch_1.c": "CHECK (scratch_1.f(a))"},
        refers_to=frozenset({"scratch_1.u"}),
    )
    made = Definition(
        thing=Thing.TABLE,
        name="scratch_1.t",
        sql="CREATE TABLE scratch_1.t ()",
        needs=("scratch_1.s",),
        shape=shape,
    )
    renamed = under_schema(made, "scratch_1", "ops")
    assert (renamed.name, renamed.sql, renamed.needs) == (
        "ops.t",
        "CREATE TABLE ops.t ()",
        ("ops.s",),
    )
    assert renamed.shape == TableShape(
        columns=(
            ColumnShape(name="a", type="ops.kind", default="nextval('ops.s')"),
            ColumnShape(name="b", type="INT", generated="ops.f(a)"),
        ),
        constraints={"ops.c": "CHECK (ops.f(a))"},
        refers_to=frozenset({"ops.u"}),
    )
    bare = Definition(thing=Thing.VIEW, name="scratch_1.v", sql="s", needs=None)
    assert under_schema(bare, "scratch_1", "ops") == Definition(
        thing=Thing.VIEW, name="ops.v", sql="s", needs=None
    )


TEXTS = st.lists(st.text(max_size=6), max_size=3).map(tuple)


@given(
    st.builds(
        Change,
        what=st.text(max_size=6),
        name=st.text(max_size=6),
        statements=TEXTS,
        effect=st.sampled_from(Effect),
        late=st.booleans(),
        lost=TEXTS,
        demands=st.lists(st.builds(Demand, query=st.text(), message=st.text()), max_size=2).map(
            tuple
        ),
        rows=TEXTS,
        several=TEXTS,
        reshapes=st.text(max_size=6),
    )
)
def test_a_change_is_read_as_it_was_written(change: Change) -> None:
    """With everything that a draft showed of it."""
    assert Change.from_json(change.to_json()) == change


def told(what: str, name: str, *, late: bool = False) -> Change:
    return Change(what=what, name=name, statements=(), late=late)


def test_late_changes_come_last_and_keep_their_order() -> None:
    """Among themselves as among the others."""
    changes = [told("a", "1", late=True), told("b", "2"), told("c", "3", late=True), told("d", "4")]
    assert [change.name for change in late_last(changes)] == ["2", "4", "1", "3"]
    aside = replace(told("set aside", "ops.a, ops.b"), several=("ops.a", "ops.b"))
    assert aside.names == ("ops.a", "ops.b")
    assert told("drop index", "ops.i").names == ("ops.i",)


def test_a_change_of_a_former_version_is_read() -> None:
    """It named neither several things nor what it reshapes."""
    data = told("drop index", "ops.i").to_json()
    del data["several"], data["reshapes"]
    assert Change.from_json(data) == told("drop index", "ops.i")


def test_what_a_change_demands_has_the_names_that_ledgers_have() -> None:
    """A draft's digest is made of them; one demand has no remedy, as in a former version."""
    demand = Demand(query="SELECT 1", message="is empty", remedy="Fill it.")
    change = replace(told("required", "ops.a.b"), demands=(demand,))
    recorded = change.to_json()
    assert recorded["demands"] == [{"query": "SELECT 1", "said": "is empty", "remedy": "Fill it."}]
    former = {**recorded, "demands": [{"query": "SELECT 1", "said": "is empty"}]}
    assert Change.from_json(former).demands == (replace(demand, remedy=""),)


def test_changes_that_views_of_others_stand_in_the_way_of() -> None:
    """A view that goes, and the tables of columns that go or change; each once."""
    changes = [
        replace(told(what, "x"), reshapes=relation)
        for what, relation in (
            ("drop view", "ops.v"),
            ("drop column", "ops.gauge"),
            ("type INT to TEXT", "ops.gauge"),
            ("add column", ""),
        )
    ]
    assert in_the_way(changes) == ["ops.gauge", "ops.v"]


def typed(name: str, **columns: str) -> Definition:
    """A table with columns of types."""
    listed = ", ".join(f"{column} {kind}" for column, kind in columns.items())
    sql = f"CREATE TABLE ops.{name} ({listed})"
    return Definition(thing=Thing.TABLE, name=f"ops.{name}", sql=sql)


def test_columns_that_change_places_are_renamed() -> None:
    """By a name between; whether they have done so is told by their types."""
    declared = {"gauge.a": "b", "gauge.b": "a"}
    before, after = [typed("gauge", a="INT", b="TEXT")], [typed("gauge", a="TEXT", b="INT")]
    renames = renames_that_apply(declared, before, after, "duckdb")
    assert renames.columns == {("ops.gauge", "b"): "a", ("ops.gauge", "a"): "b"}
    statements = [statement for change in renaming(renames) for statement in change.statements]
    assert statements == [
        "ALTER TABLE ops.gauge RENAME COLUMN a TO a__between",
        "ALTER TABLE ops.gauge RENAME COLUMN b TO a",
        "ALTER TABLE ops.gauge RENAME COLUMN a__between TO b",
    ]
    assert not renames_that_apply(declared, after, after, "duckdb")
    alike = [typed("gauge", a="INT", b="INT")]
    assert not renames_that_apply(declared, alike, alike, "duckdb")


def test_columns_that_move_on_in_a_row_are_renamed() -> None:
    """The last one first, so that each name is free."""
    declared = {"gauge.a": "b", "gauge.b": "c"}
    before, after = [typed("gauge", a="INT", b="INT")], [typed("gauge", b="INT", c="INT")]
    renames = renames_that_apply(declared, before, after, "duckdb")
    statements = [statement for change in renaming(renames) for statement in change.statements]
    assert statements == [
        "ALTER TABLE ops.gauge RENAME COLUMN b TO c",
        "ALTER TABLE ops.gauge RENAME COLUMN a TO b",
    ]
    assert not renames_that_apply(declared, after, after, "duckdb")
