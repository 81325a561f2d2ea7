"""What every database adapter must do; each is held to the same tests."""

from __future__ import annotations

import os
import threading
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import pandas as pd
import pytest

from inchworm.core.errors import TargetError
from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.parts import Digest
from inchworm.core.promotion.composition import (
    CompletedPromotion,
    Interface,
    LivePart,
    RanMigration,
)
from inchworm.core.rendered import Store
from inchworm.core.structure.definitions import Thing, differences, in_working_order
from inchworm.targets.databases import Database, connect
from inchworm.targets.databases.bookkeeping import Bookkeeping
from inchworm.targets.databases.bookkeeping.tables import COLUMNS_ADDED
from inchworm.targets.databases.duckdb.models import DuckDb
from inchworm.targets.databases.duckdb.session import IN_MEMORY
from inchworm.targets.databases.protocols import Switch
from tests.forked import fork


@pytest.fixture(params=["duckdb", "sqlite", "postgresql"])
def url(request: pytest.FixtureRequest) -> str:
    """The address of an empty database of each kind."""
    if request.param == "postgresql":
        return str(request.getfixturevalue("postgres_url"))
    return f"{request.param}:///d.{request.param}"


@pytest.fixture
def database(url: str, tmp_path: Path) -> Iterator[Database]:
    """An empty database of each kind, connected to."""
    database = connect(url, root=tmp_path)
    database.create_schema("m")
    yield database
    database.close()


def switch(name: str, store: Store = Store.TABLE, view_sql: str | None = None) -> Switch:
    return Switch(
        name=RelationName(name),
        staging=RelationName(f"{name}__beside"),
        store=store,
        view_sql=view_sql,
        replaced=RelationName(f"{name}__kept"),
    )


def values(database: Database, table: str) -> list[int]:
    return [row[0] for row in database.rows(f"SELECT * FROM {table} ORDER BY 1")]


def test_a_failing_transaction_leaves_nothing(database: Database) -> None:
    """Neither structure nor rows."""
    with pytest.raises(TargetError), database.transaction():
        database.execute("CREATE TABLE m.t (x INTEGER)")
        database.execute("INSERT INTO m.nowhere VALUES (1)")
    assert database.structure(["m"]) == {}
    with database.transaction():
        database.execute("CREATE TABLE m.t (x INTEGER)")
    assert list(database.structure(["m"])) == ["m.t"]


def test_who_only_reads_changes_nothing(database: Database) -> None:
    """Every change is refused as long as only reading was said, and possible afterwards."""
    database.execute("CREATE TABLE m.t (x INTEGER)")
    for change in ("INSERT INTO m.t VALUES (1)", "DROP TABLE m.t", "CREATE TABLE m.u (x INTEGER)"):
        with pytest.raises(TargetError), database.reading():
            database.execute(change)
    with database.reading():
        assert values(database, "m.t") == []
    database.execute("INSERT INTO m.t VALUES (1)")
    assert values(database, "m.t") == [1]


def test_structure_has_columns_types_and_what_is_required(database: Database) -> None:
    """Of tables and views alike, and only of the schemas asked for."""
    database.execute('CREATE TABLE m.t (x INTEGER NOT NULL, "Mixed Name" VARCHAR)')
    database.execute("CREATE VIEW m.v AS SELECT x FROM m.t")
    found = database.structure(["m"])
    assert [(c.name, c.required) for c in found["m.t"].columns] == [
        ("x", True),
        ("Mixed Name", False),
    ]
    assert [c.name for c in found["m.v"].columns] == ["x"]
    assert {n: k for n, k in database.kinds().items() if n in found} == {
        "m.t": "table",
        "m.v": "view",
    }
    named = [RelationName(name) for name in ("m.v", "m.nothing", "nowhere.v")]
    assert dict(database.kinds(named)) == {"m.v": "view"}
    assert database.tables(named) == {"m.v": found["m.v"]}
    assert (dict(database.kinds([])), database.tables([])) == ({}, {})
    assert database.structure(["other"]) == {}
    assert database.tables_in("m") == {"t"}
    assert database.tables_in("other") == frozenset()


def test_scratch_databases_have_nothing_of_each_other() -> None:
    """Though they share an instance; a second connection sees the same as the first."""
    with closing(DuckDb(IN_MEMORY)) as one, closing(DuckDb(IN_MEMORY)) as other:
        one.execute("CREATE SCHEMA m")
        one.execute("CREATE TABLE m.t AS SELECT 1 AS x")
        assert one.tables_in("m") == {"t"}
        assert other.structure() == {}
        second = one.new_session()
        assert second is not None
        assert second.rows("SELECT x FROM m.t") == [(1,)]
        second.close()
        assert [rows for _, rows in one.batches("SELECT x FROM m.t", 5)] == [[(1,)]]
    with closing(DuckDb(IN_MEMORY)) as later:
        assert later.structure() == {}


def test_building_replaces_nothing(database: Database) -> None:
    """A table's rows are counted; what has the name already stays, whatever it is."""
    assert database.build("m.a", Store.TABLE, "SELECT 1 AS x UNION ALL SELECT 2") == 2
    assert database.build("m.v", Store.VIEW, "SELECT 3 AS x") is None
    for name in ("m.a", "m.v"):
        for store in (Store.TABLE, Store.VIEW):
            with pytest.raises(TargetError, match="already exists"):
                database.build(name, store, "SELECT 4 AS x")
    assert values(database, "m.a") == [1, 2]
    database.drop([RelationName(name) for name in ("m.a", "m.v", "m.not_there")])
    assert database.structure(["m"]) == {}


def test_the_switch_over_puts_new_in_place_and_keeps_old_aside(database: Database) -> None:
    """Views read the new tables."""
    for number in (1, 2, 3):
        database.build("m.a__beside", Store.TABLE, f"SELECT {number} AS x")
        database.build("m.v__beside", Store.VIEW, "SELECT x * 10 AS y FROM m.a__beside")
        with database.transaction():
            database.drop([RelationName("m.a__kept")])
            database.switch_over(
                [switch("m.v", Store.VIEW, "SELECT x * 10 AS y FROM m.a"), switch("m.a")]
            )
        assert values(database, "m.a") == [number]
        assert values(database, "m.v") == [number * 10]
    assert values(database, "m.a__kept") == [2]
    assert set(database.structure(["m"])) == {"m.a", "m.v", "m.a__kept"}


def test_the_switch_over_is_all_or_nothing(database: Database) -> None:
    """If one of them fails, readers go on seeing what was there."""
    database.build("m.a", Store.TABLE, "SELECT 1 AS x")
    database.build("m.a__beside", Store.TABLE, "SELECT 2 AS x")
    with pytest.raises(TargetError), database.transaction():
        database.switch_over([switch("m.a"), switch("m.never_built")])
    assert values(database, "m.a") == [1]


@pytest.mark.parametrize(
    ("before", "after"), [(Store.TABLE, Store.VIEW), (Store.VIEW, Store.TABLE)]
)
def test_a_model_may_change_between_view_and_table(
    database: Database, before: Store, after: Store
) -> None:
    """The other kind takes its place."""
    database.build("m.a", before, "SELECT 1 AS x")
    database.build("m.a__beside", after, "SELECT 2 AS x")
    with database.transaction():
        database.switch_over([switch("m.a", after, "SELECT 2 AS x")])
    assert values(database, "m.a") == [2]
    assert database.kinds()["m.a"] == after


def test_a_table_with_an_index_can_be_replaced(database: Database) -> None:
    """Somebody may have made one by hand."""
    database.build("m.a", Store.TABLE, "SELECT 1 AS x")
    on = ("m.by_hand", "a") if database.dialect == "sqlite" else ("by_hand", "m.a")
    database.execute(f"CREATE INDEX {on[0]} ON {on[1]} (x)")
    database.build("m.a__beside", Store.TABLE, "SELECT 2 AS x")
    with database.transaction():
        database.switch_over([switch("m.a")])
    assert values(database, "m.a") == [2]


MAPPED = {
    "whole": ("CAST(7 AS INTEGER)", "int64"),
    "missing": ("CAST(NULL AS INTEGER)", "Int64"),
    "total": ("sum(CAST(7 AS INTEGER))", "int64"),
    "exact": ("CAST(1.5 AS DECIMAL(8, 2))", "float64"),
    "rough": ("CAST(1.5 AS REAL)", "float64"),
    "name": ("CAST('a' AS VARCHAR)", "str"),
}
OF_SERVERS = {
    "day": ("CAST('2026-01-02' AS DATE)", "datetime64[us]"),
    "at": ("CAST('2026-01-02 10:00' AS TIMESTAMP)", "datetime64[us]"),
    "zoned": ("CAST('2026-01-02 10:00+02' AS TIMESTAMPTZ)", "datetime64[us, UTC]"),
    "flag": ("CAST(true AS BOOLEAN)", "bool"),
    "unsure": ("CAST(NULL AS BOOLEAN)", "boolean"),
}
"""SQLite has no such types: there, dates are texts and flags numbers."""


def test_frames_have_the_same_types_from_every_database(database: Database) -> None:
    """Whatever the drivers make of them, so that a notebook goes on anywhere."""
    mapped = MAPPED if database.dialect == "sqlite" else MAPPED | OF_SERVERS
    columns = ", ".join(f"{sql} AS {name}" for name, (sql, _) in mapped.items())
    frame = database.frame(f"SELECT {columns}")
    types = {str(name): str(dtype) for name, dtype in frame.dtypes.items()}
    if database.dialect == "sqlite":  # a column of nothing has no type there
        types["missing"] = "Int64"
    assert types == {name: type_ for name, (_, type_) in mapped.items()}


def test_frames_go_in_and_out(database: Database) -> None:
    """Columns are matched by name."""
    database.execute("CREATE TABLE m.t (x INTEGER, y VARCHAR)")
    database.append_frame("m.t", pd.DataFrame({"y": ["a", "b"], "x": [1, 2]}))
    # pandas has whole numbers as floats where one is missing
    database.append_frame("m.t", pd.DataFrame({"x": [7, None], "y": ["c", "d"]}))
    rows = database.rows("SELECT x, y FROM m.t ORDER BY y")
    assert rows == [(1, "a"), (2, "b"), (7, "c"), (None, "d")]
    assert database.frame("SELECT * FROM m.t WHERE x < 5 ORDER BY x").to_dict("list") == {
        "x": [1, 2],
        "y": ["a", "b"],
    }


def test_many_rows_are_added_at_once(database: Database) -> None:
    """Whatever their text is; to none there is nothing to add."""
    database.execute("CREATE TABLE m.t (k UUID PRIMARY KEY, s VARCHAR, n INTEGER, note VARCHAR)")
    keys = [f"7f5a0000-0000-5000-8000-{n:012}" for n in range(3)]
    rows = [(keys[0], "it's", 1, None), (keys[1], "?; %s", None, None), (keys[2], "", 3, None)]
    with database.transaction():
        database.add_rows("m.t", ("k", "s", "n", "note"), rows)
        database.add_rows("m.t", ("k", "s", "n", "note"), [])
    added = database.rows("SELECT k, s, n, note FROM m.t ORDER BY k")
    assert [(str(key), *others) for key, *others in added] == rows
    with pytest.raises(TargetError), database.transaction():
        database.add_rows("m.t", ("k", "s", "n", "note"), [rows[0]])
    assert len(database.rows("SELECT * FROM m.t")) == 3


def test_the_log_of_many_small_transactions_is_short(tmp_path: Path) -> None:
    """DuckDB has in memory, too, what is in its log."""
    database = connect("duckdb:///d.duckdb", root=tmp_path)
    database.execute("CREATE TABLE t (x VARCHAR)")
    database.keep_log_short()
    log = tmp_path / "d.duckdb.wal"
    longest = 0
    for _ in range(80):
        with database.transaction():
            database.add_rows("t", ["x"], [("x" * 100_000,)])
        longest = max(longest, log.stat().st_size if log.exists() else 0)
    assert 1_000_000 < longest < 5_000_000
    database.close()


def test_rows_are_found_by_any_of_many_texts(database: Database) -> None:
    """By more than a statement has values for; an index of UUIDs is of use for it, too."""
    database.execute("CREATE TABLE m.t (k UUID PRIMARY KEY, s VARCHAR)")
    keys = [f"7f5a0000-0000-5000-8000-{n:012}" for n in range(70_000)]
    texts = ["it's", "?; %s", '"{a}"', ""]
    with database.transaction():
        database.add_rows("m.t", ("k", "s"), list(zip(keys, texts, strict=False)))
    condition, values = database.one_of("k", "UUID", keys[2:])
    found = database.rows(f"SELECT s FROM m.t WHERE {condition}", values)
    assert sorted(found) == [("",), ('"{a}"',)]
    condition, values = database.one_of("s", "VARCHAR", ["it's", "?; %s", "other"])
    database.execute(f"DELETE FROM m.t WHERE {condition} AND s <> ?", [*values, "it's"])
    assert sorted(s for (s,) in database.rows("SELECT s FROM m.t")) == ["", '"{a}"', "it's"]
    condition, values = database.one_of("k", "UUID", [])
    assert database.rows(f"SELECT s FROM m.t WHERE {condition}", values) == []


def test_rows_come_with_the_names_of_their_columns(database: Database) -> None:
    """Also where there are none."""
    assert database.select("SELECT 1 AS a, 'x' AS b") == (["a", "b"], [(1, "x")])
    assert database.select("SELECT 1 AS a WHERE 1 = 0") == (["a"], [])


def test_rows_come_little_by_little_while_other_statements_run(database: Database) -> None:
    """What is written meanwhile is not among them."""
    database.execute("CREATE TABLE m.t (x INTEGER)")
    for x in range(5):
        database.execute("INSERT INTO m.t VALUES (?)", [x])
    seen = []
    with closing(database.batches("SELECT x FROM m.t ORDER BY x", 2)) as batches:
        for columns, rows in batches:
            assert columns == ["x"]
            seen.append([x for (x,) in rows])
            with database.transaction():
                database.execute("CREATE TABLE IF NOT EXISTS m.other (x INTEGER)")
                database.execute("INSERT INTO m.other VALUES (?)", [len(rows)])
    assert seen == [[0, 1], [2, 3], [4]]
    assert database.rows("SELECT x FROM m.other ORDER BY x") == [(1,), (2,), (2,)]


def test_a_due_time_is_taken_once(database: Database) -> None:
    """And an earlier one not after a later one."""
    ours, theirs = Bookkeeping(database, "ours"), Bookkeeping(database, "theirs")
    assert ours.due_times() == {}
    ours.ensure()
    noon, later = "2026-05-01T12:00:00+00:00", "2026-05-01T13:00:00+00:00"
    taken = [ours.claim_due("p.s", due) for due in (noon, noon, later, noon)]
    assert taken == [True, False, True, False]
    assert theirs.claim_due("p.s", noon)
    assert ours.due_times() == {"p.s": later}


def test_bookkeeping_survives_and_keeps_projects_apart(database: Database) -> None:
    """What is put is what is read; several projects share a database without meeting."""
    ours, theirs = Bookkeeping(database, "ours"), Bookkeeping(database, "theirs")
    assert (ours.exists, ours.parts(), ours.last()) == (False, [], None)
    ours.ensure()
    ours.ensure()
    interface = Interface(
        values={"p": "1"}, tables={"m.t": (("x", "INT"),)}, reads={"m.u": ("a", "b")}
    )
    parts = [
        LivePart(
            part=PartId(Kind.MODEL, f"m.t{i:04}"),
            project="ours",
            bundle="b-1.0.0",
            digest=Digest("sha256:1"),
            content=Digest("sha256:2"),
            commit=None,
            promotion="P1",
            put_at="2026-01-01",
            interface_text=interface.text,
            recipe="r",
            structure="s",
        )
        for i in range(450)
    ]
    last = CompletedPromotion(
        promotion="k:P1", bundle="b", digest="d", commit=None, by="l", at="2026"
    )
    ran = RanMigration(
        schema="m", name="0001", checksum="c", outcome="ran", promotion="P1", ran_at="2026"
    )
    with database.transaction():
        ours.put(parts)
        ours.put(parts[:3])
        ours.completed(last)
        ours.ran(ran, "lena", 0.1)
        ours.record_step("k:P1", 3, "2026")
    assert ours.parts() == theirs.parts() == parts
    assert ours.parts()[0].interface == interface
    assert (ours.last(), ours.migrations(), ours.recorded_steps("k:P1")) == (last, [ran], {3})
    assert (theirs.last(), theirs.migrations(), theirs.recorded_steps("k:P2")) == (None, [], set())
    with database.transaction():
        theirs.remove(parts[0].part)
        ours.remove(parts[1].part, parts[2].part)
        ours.forget_steps("k:P1", [3])
    assert ours.parts() == [parts[0], *parts[3:]]
    assert ours.recorded_steps("k:P1") == set()


@pytest.mark.parametrize("kind", ["duckdb", "sqlite"])
def test_looking_creates_nothing(tmp_path: Path, kind: str) -> None:
    """A database that is not there yet is not made by reading."""
    database = connect(f"{kind}:///new/d.{kind}", root=tmp_path, read_only=True)
    assert database.structure() == {}
    assert list(tmp_path.iterdir()) == []


DEFINED = (
    "CREATE TABLE m.river (id INTEGER PRIMARY KEY, name VARCHAR NOT NULL UNIQUE)",
    "CREATE TABLE m.a_gauge (id INTEGER PRIMARY KEY, river_id INTEGER NOT NULL "
    "REFERENCES {river} (id), level DECIMAL(8, 2) DEFAULT 0, CHECK (level < 2000), "
    "UNIQUE (river_id, level))",
    "CREATE INDEX {index} (level)",
    "CREATE VIEW m.deep AS SELECT id, level FROM {m}a_gauge WHERE level > 100",
    "CREATE VIEW m.a_deeper AS SELECT id FROM {m}deep WHERE level > 500",
)


def test_definitions_make_the_same_again(database: Database, url: str, tmp_path: Path) -> None:
    """In an order in which they can run; read back, they are what they were."""
    within = database.dialect == "sqlite"  # where names inside a schema's file are without it
    names = {
        "m": "" if within else "m.",
        "river": "river" if within else "m.river",
        "index": "m.by_level ON a_gauge" if within else "by_level ON m.a_gauge",
    }
    for statement in DEFINED:
        database.execute(statement.format(**names))
    told = in_working_order(database.definitions(["m"]), database.dialect)
    assert [d.name for d in told if d.thing is Thing.TABLE] == ["m.river", "m.a_gauge"] or (
        database.dialect == "postgres"
    )
    assert [d.name for d in told if d.thing is Thing.VIEW] == ["m.deep", "m.a_deeper"]
    alone = {d.name: d for d in database.relations(["m"])}
    assert alone == {d.name: d for d in told if d.thing.is_relation}
    assert database.relations(["nothing"]) == database.definitions([]) == []
    for definition in reversed([d for d in told if d.thing in {Thing.VIEW, Thing.TABLE}]):
        database.execute(
            f"DROP {definition.thing.value.upper()} {definition.name}" + _also(database)
        )
    assert database.definitions(["m"]) == []
    for definition in told:
        database.execute(definition.sql)
    again = database.definitions(["m"])
    assert differences(told, again) == []
    database.execute("ALTER TABLE m.river ADD COLUMN length INTEGER")
    (found,) = differences(told, database.definitions(["m"]))
    assert (found.key, found.what) == ("table m.river", "changed")


def _also(database: Database) -> str:
    return " CASCADE" if database.dialect == "postgres" else ""


def _die_writing(url: str, folder: Path) -> None:
    database = connect(url, root=folder)
    if database.dialect == "sqlite":  # so that what is not committed is in the files
        database.execute("PRAGMA main.cache_size = 1")
        database.execute("PRAGMA m.cache_size = 1")
    with database.transaction():
        for table in ("own", "m.t"):
            if table == "m.t" or database.dialect == "sqlite":
                database.execute(f"UPDATE {table} SET x = x || ' half done'")
        os._exit(9)


def test_what_a_process_left_half_done_that_died_is_not_seen(url: str, tmp_path: Path) -> None:
    """Not even by who only reads, and is the first to look."""
    with closing(connect(url, root=tmp_path)) as database:
        database.create_schema("m")
        for table in ("own", "m.t"):
            if table == "m.t" or database.dialect == "sqlite":
                database.execute(f"CREATE TABLE {table} (x VARCHAR)")
                database.add_rows(table, ["x"], [("before" * 100,)] * 5000)
    process = fork(_die_writing, url, tmp_path)
    process.join(60)
    assert process.exitcode == 9
    with closing(connect(url, root=tmp_path, read_only=True)) as database:
        assert database.rows("SELECT DISTINCT x FROM m.t") == [("before" * 100,)]
        if database.dialect == "sqlite":
            assert database.rows("SELECT DISTINCT x FROM own") == [("before" * 100,)]


def test_macros_are_told_as_they_are_whatever_has_changed_them(tmp_path: Path) -> None:
    """DuckDB takes long to list them, so they are read again only where they may be others."""
    url = "duckdb:///d.duckdb"

    def told(database: Database) -> list[str]:
        return [each.name for each in database.surroundings(["m", "n"])]

    with closing(connect(url, root=tmp_path)) as database:
        assert told(database) == []
        database.create_schema("m")
        database.create_schema("n")
        assert told(database) == []
        database.execute("CREATE MACRO m.twice(x) AS 2 * x")
        assert told(database) == ["m.twice"]
        with pytest.raises(ZeroDivisionError), database.transaction():
            database.execute("create or replace function n.half(x) as x / 2")
            assert told(database) == ["m.twice", "n.half"]
            raise ZeroDivisionError
        assert told(database) == ["m.twice"]
        database.execute("CREATE TABLE n.t (x INTEGER)")
        other = database.new_session()
        assert other is not None
        assert told(other) == ["m.twice"]
        other.execute("DROP /* with all */ SCHEMA m CASCADE")
        assert told(other) == told(database) == []
        other.close()
        database.execute("CREATE MACRO n.half(x) AS x / 2")
    with closing(connect(url, root=tmp_path)) as database:
        assert told(database) == ["n.half"]


def test_macros_of_a_file_are_told_that_came_while_there_was_none(tmp_path: Path) -> None:
    """Who looked before has seen an empty database, and nothing of this one."""
    url = "duckdb:///d.duckdb"
    with closing(connect(url, root=tmp_path, read_only=True)) as nothing:
        assert nothing.surroundings(["m"]) == []
        with closing(connect(url, root=tmp_path)) as database:
            database.create_schema("m")
            database.execute("CREATE MACRO m.twice(x) AS 2 * x")
    with closing(connect(url, root=tmp_path)) as database:
        assert [each.name for each in database.surroundings(["m"])] == ["m.twice"]


def test_a_schema_of_duckdb_takes_nothing_else_along(tmp_path: Path) -> None:
    """Scratch schemas are dropped with all that is in them, and views of others stay."""
    with closing(connect("duckdb:///d.duckdb", root=tmp_path)) as database:
        for schema in ("scratch", "theirs"):
            database.create_schema(schema)
        database.execute("CREATE TABLE scratch.t (x INTEGER)")
        database.execute("CREATE VIEW theirs.v AS SELECT x FROM scratch.t")
        database.discard(["scratch"])
        assert dict(database.kinds()) == {"theirs.v": "view"}


@pytest.mark.parametrize("version", range(len(COLUMNS_ADDED)))
def test_bookkeeping_of_any_former_version_gets_what_it_lacks(
    database: Database, version: int
) -> None:
    """Also where whole tables are younger than columns of others."""

    def complete(table: str) -> bool:
        columns, _ = database.select(f"SELECT * FROM books.{table} LIMIT 0")
        return {c for t, c, _ in COLUMNS_ADDED if t == table} <= set(columns)

    Bookkeeping(database, "p", "books").ensure()
    younger = {table for table, _, _ in COLUMNS_ADDED[version:]}
    older = {table for table, _, _ in COLUMNS_ADDED[:version]}
    for table in (younger - older) | {"schedules", "holds", "api_versions"}:
        database.execute(f"DROP TABLE books.{table}")
    for table, column, _ in COLUMNS_ADDED[version:]:
        if table in older:
            database.execute(f"ALTER TABLE books.{table} DROP COLUMN {column}")
    bookkeeping = Bookkeeping(database, "p", "books")
    bookkeeping.ensure()
    assert all(map(complete, older | younger))
    assert [*bookkeeping.aside(), *bookkeeping.promotions(), *bookkeeping.parts()] == []


def test_a_reading_of_the_bookkeeping_is_of_one_instant(database: Database) -> None:
    """Tables that somebody else makes meanwhile come with the next one."""
    ours, theirs = Bookkeeping(database, "ours"), Bookkeeping(database, "theirs")
    with ours.one_reading():
        assert not ours.has("parts")
        theirs.ensure()
        assert not ours.has("aside")
    assert ours.has("aside")


def test_another_connection_works_at_the_same_time(database: Database) -> None:
    """Where there can be one; what it has committed is seen by the first."""
    other = database.new_session()
    if other is None:
        assert database.dialect == "sqlite"  # which has one writer
        return
    with database.transaction():
        database.execute("CREATE TABLE m.mine (x INTEGER)")
        with other.transaction():
            other.execute("CREATE TABLE m.theirs (x INTEGER)")
    other.close()
    assert set(database.structure(["m"])) == {"m.mine", "m.theirs"}


def test_a_statement_can_be_interrupted(database: Database) -> None:
    """From another thread; afterwards the connection goes on."""
    endless = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT max(i) FROM n"
    failed: list[BaseException] = []

    def run() -> None:
        try:
            database.rows(endless)
        except (TargetError, KeyboardInterrupt) as error:
            failed.append(error)

    thread = threading.Thread(target=run)
    thread.start()
    while thread.is_alive():
        database.interrupt()
        thread.join(timeout=0.05)
    assert len(failed) == 1
    assert database.rows("SELECT 1") == [(1,)]


def test_a_scratch_place_leaves_nothing(database: Database, url: str, tmp_path: Path) -> None:
    """It knows other schemas, works for whoever may only look, and tells what was made."""
    database.create_schema("other")
    database.execute("CREATE TABLE other.t (x INTEGER)")
    before = database.structure()
    if database.dialect == "duckdb":
        database.close()
    looking = connect(url, root=tmp_path, read_only=True)
    with looking.scratch_database("m") as (board, name):
        board.execute(f"CREATE TABLE {name}.made (x INTEGER)")
        if board.dialect != "sqlite":
            board.execute(f"CREATE VIEW {name}.seen AS SELECT x FROM other.t")
        assert f"{name}.made" in board.structure()
        assert f"{name}.made" in {d.name for d in board.definitions([name])}
    assert looking.structure() == before
    looking.close()


def test_tables_are_made_anew_without_losing_what_hangs_on_them(database: Database) -> None:
    """Rows that point at them, and views upon them."""
    here = "t" if database.dialect == "sqlite" else "m.t"
    for statement in (
        "CREATE TABLE m.t (x INTEGER PRIMARY KEY)",
        f"CREATE TABLE m.points (x INTEGER REFERENCES {here} (x) ON DELETE CASCADE)"
        if database.dialect != "duckdb"
        else "CREATE TABLE m.points (x INTEGER)",
        "INSERT INTO m.t VALUES (1)",
        "INSERT INTO m.points VALUES (1)",
        "CREATE VIEW m.v AS SELECT x FROM m.t",
    ):
        database.execute(statement)
    with database.restructuring(["m.t"]):
        if database.dialect == "postgres":
            database.execute("ALTER TABLE m.t ALTER COLUMN x TYPE bigint")
        else:
            database.execute("CREATE TABLE m.copy AS SELECT * FROM m.t")
            database.execute("DROP TABLE m.t")
            database.execute("CREATE TABLE m.t (x BIGINT PRIMARY KEY)")
            database.execute("INSERT INTO m.t SELECT x FROM m.copy")
            database.execute("DROP TABLE m.copy")
    assert values(database, "m.points") == values(database, "m.v") == [1]
    with pytest.raises(TargetError), database.restructuring([]):
        database.execute("DROP VIEW m.v")
        database.execute("INSERT INTO m.nowhere VALUES (1)")
    assert values(database, "m.v") == [1]


def test_limits_hold_while_they_are_asked_for(database: Database, url: str) -> None:
    """A connection that was asked for less takes as much as before, afterwards."""
    asked = {
        "duckdb": "SELECT current_setting('threads'), current_setting('memory_limit')",
        "postgresql": "SELECT current_setting('max_parallel_workers_per_gather')",
        "sqlite": "SELECT 'nothing'",
    }[url.partition(":")[0]]
    within = {
        "duckdb": [(1, "61.0 MiB")],
        "postgresql": [("0",)],
        "sqlite": [("nothing",)],
    }[url.partition(":")[0]]
    before = database.rows(asked)
    with database.limited_to(64_000_000, 1):
        assert database.rows(asked) == within
    assert database.rows(asked) == before
    with pytest.raises(TargetError), database.limited_to(64_000_000, 1):
        database.execute("SELECT nonsense FROM nowhere")
    assert database.rows(asked) == before


def test_of_what_runs_at_a_time_the_largest_limit_counts(tmp_path: Path) -> None:
    """DuckDB has one limit for a file, whatever the connection."""
    asked = "SELECT current_setting('memory_limit')"
    with closing(connect("duckdb:///d.duckdb", root=tmp_path)) as one:
        other = one.new_session()
        assert other is not None
        (usual,) = one.rows(asked)
        with one.limited_to(64_000_000, None):
            with other.limited_to(128_000_000, None):
                assert one.rows(asked) == [("122.0 MiB",)]
            with other.limited_to(None, None):
                assert one.rows(asked) == [usual]
            assert other.rows(asked) == [("61.0 MiB",)]
        assert one.rows(asked) == [usual]
        other.close()
