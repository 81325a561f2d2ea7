"""Definitions: what differs, their working order, and changes made by hand as statements."""

from __future__ import annotations

import pytest

from inchworm.core.structure.definitions import (
    Definition,
    Difference,
    Thing,
    differences,
    in_working_order,
    relation_of,
    script_of,
)
from inchworm.core.structure.surroundings import changes_of, is_of_roles


def thing(kind: str, name: str, sql: str = "x", needs: tuple[str, ...] | None = ()) -> Definition:
    return Definition(thing=Thing(kind), name=name, sql=sql, needs=needs)


TABLE = thing("table", "ops.t", "CREATE TABLE ops.t (n INT)")
TRIGGER = thing("trigger", "ops.t.noted", "CREATE TRIGGER noted")


def said(before: list[Definition], after: list[Definition]) -> list[str]:
    return [f"{d.word} {d.key} of {d.relation}" for d in differences(before, after)]


def test_what_is_missing_changed_or_new() -> None:
    other = thing("table", "ops.t", "CREATE TABLE ops.t (n BIGINT)")
    view = thing("view", "ops.a")
    assert said([TABLE, TRIGGER], [TRIGGER, TABLE]) == []
    assert said([TABLE], [other]) == ["changed table ops.t of ops.t"]
    assert said([TABLE], [view]) == ["missing table ops.t of ops.t", "new view ops.a of ops.a"]
    assert said([TABLE], [TABLE, TRIGGER]) == ["new trigger ops.t.noted of ops.t"]
    (changed,) = differences([TABLE], [other])
    assert (changed.was, changed.now) == (TABLE.sql, other.sql)
    assert changed.mark != differences([other], [TABLE])[0].mark
    (new,) = differences([], [TABLE])
    assert (new.what, new.was, new.schema) == ("unknown", "", "ops")


def test_what_surrounds_a_table_that_goes_or_comes_says_nothing_more() -> None:
    assert said([TABLE, TRIGGER], []) == ["missing table ops.t of ops.t"]
    assert said([], [TABLE, TRIGGER]) == ["new table ops.t of ops.t"]
    beside = thing("trigger", "ops.u.noted")
    assert said([TABLE, TRIGGER, beside], [])[1:] == ["missing trigger ops.u.noted of ops.u"]


def test_things_come_after_what_they_need() -> None:
    views = [
        thing("view", "ops.a", needs=("ops.b",)),
        thing("view", "ops.b", needs=("ops.c", "ops.nowhere")),
        thing("view", "ops.c", "CREATE VIEW ops.c AS SELECT * FROM t", needs=None),
        thing("view", "ops.d", "SELECT FROM nothing that is read(", needs=None),
    ]
    ordered = in_working_order([*views, TRIGGER, TABLE], "duckdb")
    names = ["ops.t", "ops.c", "ops.d", "ops.b", "ops.a", "ops.t.noted"]
    assert [each.name for each in ordered] == names
    tables = [
        thing("table", "ops.b", "CREATE TABLE ops.b (n INT REFERENCES ops.c (n))", needs=None),
        thing("table", "ops.c"),
    ]
    assert [each.name for each in in_working_order(tables, "duckdb")] == ["ops.c", "ops.b"]


def test_what_needs_each_other_in_a_circle_is_all_there() -> None:
    circle = [
        thing("view", "ops.a", needs=("ops.b",)),
        thing("view", "ops.b", needs=("ops.c",)),
        thing("view", "ops.c", needs=("ops.a",)),
        thing("view", "ops.d", needs=("ops.a", "ops.d")),
    ]
    ordered = [each.name for each in in_working_order(circle, "duckdb")]
    assert sorted(ordered) == ["ops.a", "ops.b", "ops.c", "ops.d"]
    assert ordered.index("ops.d") > ordered.index("ops.a")
    assert ordered == [each.name for each in in_working_order(reversed(circle), "duckdb")]


def difference(kind: str, name: str, what: str = "changed", now: str = "now") -> Difference:
    now = "" if what == "missing" else now
    return Difference(key=f"{kind} {name}", name=name, what=what, thing=Thing(kind), now=now)


@pytest.mark.parametrize(
    ("changed", "dialect", "statements"),
    [
        (difference("trigger", "ops.t.a", "unknown"), "postgres", ["now"]),
        (
            difference("trigger", "ops.t.a"),
            "postgres",
            ["DROP TRIGGER IF EXISTS a ON ops.t", "now"],
        ),
        (difference("trigger", "ops.t.a", "missing"), "sqlite", ["DROP TRIGGER IF EXISTS ops.a"]),
        (
            difference("policy", "ops.t.Own One", now="first;\nsecond"),
            "postgres",
            ['DROP POLICY IF EXISTS "Own One" ON ops.t', "first", "second"],
        ),
        (
            difference("options", "ops.t", "missing"),
            "postgres",
            [
                "ALTER TABLE ops.t DISABLE ROW LEVEL SECURITY",
                "ALTER TABLE ops.t NO FORCE ROW LEVEL SECURITY",
            ],
        ),
        (difference("routine", "ops.f"), "duckdb", ["DROP MACRO IF EXISTS ops.f", "now"]),
        (difference("routine", "ops.f"), "postgres", ["now"]),
        (
            difference("routine", "ops.f(int)", "missing"),
            "postgres",
            ["DROP ROUTINE IF EXISTS ops.f(int)"],
        ),
    ],
)
def test_changes_by_hand_as_statements(
    changed: Difference, dialect: str, statements: list[str]
) -> None:
    (change,) = changes_of([changed], dialect)
    assert list(change.statements) == statements
    assert (change.what, change.name) == (f"take over {changed.thing.value}", changed.name)


def test_rights_and_tables_are_not_taken_over_as_statements() -> None:
    rights = difference("rights", "ops.t to analysts")
    assert is_of_roles(rights)
    assert not is_of_roles(difference("trigger", "ops.t.a"))
    assert changes_of([rights, difference("table", "ops.t")], "postgres") == []


@pytest.mark.parametrize(
    ("kind", "name", "relation"),
    [
        ("table", "ops.t", "ops.t"),
        ("trigger", "ops.t.noted", "ops.t"),
        ("policy", "ops.t.own rows", "ops.t"),
        ("rights", "ops.t to duty desk", "ops.t"),
        ("rights", "ops.way to go to duty", "ops.way to go"),
    ],
)
def test_the_relation_that_a_thing_belongs_to(kind: str, name: str, relation: str) -> None:
    assert relation_of(Thing(kind), name) == relation


def test_a_script_makes_everything_in_an_order_that_works() -> None:
    view = thing("view", "ops.a", "CREATE VIEW ops.a AS SELECT n FROM ops.t", ("ops.t",))
    table = thing("table", "ops.t", "CREATE TABLE ops.t (n INT, note TEXT)")
    assert script_of([view, table], "postgres", "postgres") == (
        "CREATE TABLE ops.t (\n  n INT,\n  note TEXT\n);\n\n"
        "CREATE VIEW ops.a AS\nSELECT\n  n\nFROM ops.t;\n\n"
    )
    assert "note VARCHAR" in script_of([table], "postgres", "tsql")
    assert script_of([], "postgres", "postgres") == ""


@pytest.mark.parametrize(
    "sql",
    ["CREATE TABLE ops.t (\n  n INT -- as it was\n)", "CREATE FUNCTION f() RETURNS x AS $$ ; $$"],
)
def test_what_is_laid_out_or_cannot_be_told_otherwise_stays_as_it_is(sql: str) -> None:
    kind = "table" if "TABLE" in sql else "routine"
    assert script_of([thing(kind, "ops.t", sql)], "postgres", "postgres") == f"{sql};\n\n"
