"""What a database has, held against what a baseline would make: said column by column."""

from __future__ import annotations

import pytest

from inchworm.core.structure.baseline import baseline_differences
from inchworm.core.structure.definitions import Definition, Thing
from inchworm.core.structure.shapes import ColumnShape, TableShape


def table(*columns: ColumnShape, options: str = "", **constraints: str) -> Definition:
    """The table ``ops.t``, by its shape."""
    shape = TableShape(columns=columns, constraints=constraints, options=options)
    return Definition(thing=Thing.TABLE, name="ops.t", sql=f"{shape}", shape=shape)


def column(name: str = "n", type: str = "INT", **more: object) -> ColumnShape:
    return ColumnShape(name=name, type=type, **more)  # type: ignore[arg-type]


def said(baseline: list[Definition], live: list[Definition]) -> list[str]:
    return baseline_differences(baseline, live, "duckdb")


PLAIN = table(column())


@pytest.mark.parametrize(
    ("baseline", "live", "words"),
    [
        (table(column(), column("m")), PLAIN, ["lacks m"]),
        (PLAIN, table(column(), column("a"), column("b")), ["has a, b, too"]),
        (PLAIN, table(column(type="TEXT")), ["has n as TEXT, not INT"]),
        (PLAIN, table(column(required=True)), ["has n required"]),
        (table(column(required=True)), PLAIN, ["has n not required"]),
        (PLAIN, table(column(default="3")), ["has n with default 3, not none"]),
        (table(column(generated="a + 1")), PLAIN, ["has n with expression none, not a + 1"]),
        (table(column(identity="always")), PLAIN, ["has n with identity none, not always"]),
        (table(column(rest="UNIQUE")), PLAIN, ["has n with constraint none, not UNIQUE"]),
        (table(column(), a="UNIQUE (n)"), PLAIN, ["lacks UNIQUE (n)"]),
        (PLAIN, table(column(), a="UNIQUE (n)"), ["has UNIQUE (n), too"]),
        (table(column(), a="UNIQUE (n)"), table(column(), b="UNIQUE (n)"), []),
        (PLAIN, table(column(), options="STRICT"), ["has the options STRICT, not none"]),
        (table(column(), options="STRICT"), PLAIN, ["has the options none, not STRICT"]),
        (table(column("a"), column("b")), table(column("b"), column("a")), []),
    ],
)
def test_tables(baseline: Definition, live: Definition, words: list[str]) -> None:
    assert said([baseline], [live]) == [f"ops.t {each}" for each in words]


def test_tables_that_only_their_statements_tell() -> None:
    one = Definition(thing=Thing.TABLE, name="ops.t", sql="CREATE TABLE ops.t (n INTEGER)")
    other = Definition(thing=Thing.TABLE, name="ops.t", sql="CREATE TABLE ops.t (n BIGINT)")
    assert said([one], [other]) == ["ops.t has n as BIGINT, not INT"]


def test_other_things() -> None:
    view = Definition(thing=Thing.VIEW, name="ops.v", sql="CREATE VIEW ops.v AS SELECT 1")
    other = Definition(thing=Thing.VIEW, name="ops.v", sql="CREATE VIEW ops.v AS\n  SELECT 2")
    assert said([view], [other]) == [
        "ops.v has CREATE VIEW ops.v AS SELECT 2, not CREATE VIEW ops.v AS SELECT 1"
    ]
    assert said([view, PLAIN], [view]) == ["ops.t is not there"]
    assert said([PLAIN], [PLAIN, view]) == []
    comment = Definition(thing=Thing.COMMENT, name="ops.t", sql="x", needs=("ops.t",))
    assert said([PLAIN, comment], [PLAIN]) == []


def index(name: str, columns: str, table: str = "ops.t", needs: bool = True) -> Definition:
    sql = f'CREATE INDEX "{name}" ON {table} ({columns})'
    return Definition(
        thing=Thing.INDEX, name=f"ops.{name}", sql=sql, needs=(table,) if needs else ()
    )


@pytest.mark.parametrize("needs", [True, False])
def test_indexes_by_what_they_demand(needs: bool) -> None:
    """Whatever they are called."""
    a, b, c = (
        index(n, columns, needs=needs) for n, columns in (("a", "n"), ("b", "n"), ("c", "m"))
    )
    assert said([PLAIN, a], [PLAIN, b]) == []
    assert said([PLAIN, a], [PLAIN, c]) == [
        "ops.t lacks CREATE INDEX ON ops.t (n)",
        "ops.t has CREATE INDEX ON ops.t (m), too",
    ]
    elsewhere = index("x", "n", table="ops.other", needs=needs)
    assert said([PLAIN], [PLAIN, elsewhere]) == []


def test_an_index_of_a_table_that_is_missing_says_nothing_more() -> None:
    assert said([PLAIN, index("a", "n")], []) == ["ops.t is not there"]


def test_an_index_is_on_a_table_of_its_schema() -> None:
    sql = 'CREATE INDEX ops.a ON "t" (n)'
    plain = Definition(thing=Thing.INDEX, name="ops.a", sql=sql, needs=())
    assert said([PLAIN, plain], [PLAIN]) == ['ops.t lacks CREATE INDEX ON "t" (n)']


def test_foreign_keys_by_what_they_demand() -> None:
    def key(name: str, target: str) -> Definition:
        sql = f"ALTER TABLE ops.t ADD CONSTRAINT {name} FOREIGN KEY (n) REFERENCES {target} (n)"
        return Definition(
            thing=Thing.CONSTRAINT, name=f"ops.t.{name}", sql=sql, needs=("ops.t", target)
        )

    assert said([PLAIN, key("a", "ops.u")], [PLAIN, key('"b c"', "ops.u")]) == []
    (lacks, has) = said([PLAIN, key("a", "ops.u")], [PLAIN, key("b", "ops.w")])
    assert (
        lacks == "ops.t lacks ALTER TABLE ops.t ADD CONSTRAINT FOREIGN KEY (n) REFERENCES ops.u (n)"
    )
    assert has.endswith("REFERENCES ops.w (n), too")
