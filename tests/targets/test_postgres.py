"""What is PostgreSQL's own: views that follow a renamed table, rights, locks, other sessions."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from pathlib import Path

import psycopg
import pytest

from inchworm.core.errors import EnvironmentMoved, TargetError
from inchworm.core.identifiers import RelationName
from inchworm.core.rendered import Store
from inchworm.targets.databases import Database, connect
from inchworm.targets.databases.postgres.asking import whole_names
from inchworm.targets.databases.postgres.models import Postgres
from inchworm.targets.databases.protocols import Switch
from inchworm.targets.secret import Secret


@pytest.fixture
def database(postgres_url: str, tmp_path: Path) -> Iterator[Database]:
    database = connect(postgres_url, root=tmp_path)
    for schema in ("m", "theirs"):
        database.create_schema(schema)
    yield database
    database.close()


def switch(name: str) -> Switch:
    """The switch-over of a table that was built beside."""
    return Switch(
        name=RelationName(name),
        staging=RelationName(f"{name}__beside"),
        store=Store.TABLE,
        view_sql=None,
        replaced=RelationName(f"{name}__kept"),
    )


def replace(database: Database, name: str, sql: str) -> None:
    """Build a table beside and switch it over."""
    database.build(f"{name}__beside", Store.TABLE, sql)
    with database.transaction():
        database.switch_over([switch(name)])


def indexes(database: Database, table: str) -> dict[int, str]:
    """The names of a table's indexes by their internal numbers."""
    return dict(
        database.rows(
            "SELECT indexrelid::int, indexrelid::regclass::text FROM pg_index "
            "WHERE indrelid = ?::regclass",
            [table],
        )
    )


def test_indexes_are_made_while_nobody_waits(database: Database) -> None:
    """Once, ahead of the switch-over, which only names them; also if they change in between."""
    database.build("m.a", Store.TABLE, "SELECT 1 AS x, 'b' AS y")
    database.execute('CREATE UNIQUE INDEX "By X" ON m.a (x DESC) INCLUDE (y) WHERE x > 0')
    database.execute("CREATE INDEX by_y ON m.a (lower(y))")
    database.execute("CREATE INDEX old ON m.a (y)")
    database.build("m.a__beside", Store.TABLE, "SELECT 2 AS x, 'c' AS y")
    database.prepare([switch("m.a")])
    made = set(indexes(database, "m.a__beside"))
    database.prepare([switch("m.a")])
    assert set(indexes(database, "m.a__beside")) == made
    assert len(made) == 3
    database.execute("DROP INDEX m.old")
    database.execute("CREATE INDEX late ON m.a (x, y)")
    with database.transaction():
        database.switch_over([switch("m.a")])
    after = indexes(database, "m.a")
    assert sorted(after.values()) == ['m."By X"', "m.by_y", "m.late"]
    assert {name for number, name in after.items() if number in made} == {'m."By X"', "m.by_y"}


def test_definitions_are_told_whole_wherever_names_are_looked_up(database: Database) -> None:
    """And names are looked up where they were before, also when the server refused something."""
    database.execute("CREATE TABLE m.a (x INTEGER)")
    database.execute("CREATE VIEW m.v AS SELECT x FROM m.a")
    database.execute("SET search_path = m, public")
    (view,) = (each for each in database.relations(["m"]) if each.name == "m.v")
    assert "FROM m.a" in view.sql
    assert database.rows("SHOW search_path") == [("m, public",)]
    assert isinstance(database, Postgres)
    with pytest.raises(ZeroDivisionError), whole_names(database):
        with whole_names(database):  # it is so already
            assert database.rows("SHOW search_path") == [("",)]
        assert database.rows("SHOW search_path") == [("",)]
        raise ZeroDivisionError
    assert database.rows("SHOW search_path") == [("m, public",)]


def test_views_of_others_read_what_then_has_the_name(database: Database) -> None:
    """Also views upon such views; and nobody loses a right."""
    database.execute("DROP ROLE IF EXISTS analyst_of_m")
    database.execute("CREATE ROLE analyst_of_m")
    database.build("m.a", Store.TABLE, "SELECT 1 AS x")
    database.execute("CREATE VIEW theirs.v AS SELECT x FROM m.a")
    database.execute("CREATE VIEW theirs.w AS SELECT x + 1 AS y FROM theirs.v")
    for name in ("m.a", "theirs.v", "theirs.w"):
        database.execute(f"GRANT SELECT ON {name} TO analyst_of_m")
    replace(database, "m.a", "SELECT 5 AS x")
    assert database.rows("SELECT x FROM theirs.v") == [(5,)]
    assert database.rows("SELECT y FROM theirs.w") == [(6,)]
    for name in ("m.a", "theirs.v", "theirs.w"):
        allowed = database.rows("SELECT has_table_privilege('analyst_of_m', ?, 'SELECT')", [name])
        assert allowed == [(True,)], name
    database.execute("DROP OWNED BY analyst_of_m")
    database.execute("DROP ROLE analyst_of_m")


def test_a_view_that_would_break_stops_the_switch_over(database: Database) -> None:
    """And readers go on seeing what was there."""
    database.build("m.a", Store.TABLE, "SELECT 1 AS x")
    database.execute("CREATE VIEW theirs.v AS SELECT x FROM m.a")
    with pytest.raises(TargetError, match=r"column a\.x does not exist"):
        replace(database, "m.a", "SELECT 5 AS other")
    assert database.rows("SELECT x FROM theirs.v") == [(1,)]


def test_only_one_promotion_works_in_a_database(database: Database, postgres_url: str) -> None:
    """Of one project; the one that does is named. Others may, and so may all when it is over."""
    database.lock("inchworm river")
    other = connect(postgres_url, root=Path())
    with pytest.raises(EnvironmentMoved, match=r"river from .* \(process \d+\)"):
        other.lock("inchworm river")
    other.lock("inchworm maps")
    database.close()
    third = connect(postgres_url, root=Path())
    for _ in range(100):
        try:
            third.lock("inchworm river")
            break
        except EnvironmentMoved:
            continue  # the server has not noticed yet that the connection has ended
    other.close()
    third.close()


def test_waiting_for_a_lock_is_bounded_and_says_for_whom(
    database: Database, postgres_url: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The session in the way, even if it only reads; when it ends, the work is done."""
    database.build("m.a", Store.TABLE, "SELECT 1 AS x")
    monkeypatch.setattr("inchworm.targets.databases.postgres.lock_waits.PAUSE", 0.0)
    monkeypatch.setattr("inchworm.targets.databases.postgres.lock_waits.ATTEMPTS", 2)
    tried: list[int] = []

    def work() -> str:
        tried.append(1)
        with database.transaction():
            database.execute("ALTER TABLE m.a ADD COLUMN y INT")
        return "done"

    with psycopg.connect(postgres_url, application_name="night job") as other:
        other.execute("SELECT x FROM m.a")
        with pytest.raises(TargetError, match="waited 800ms for a lock, 2 times") as caught:
            database.locking(work)
        assert "river, night job) is idle in transaction since" in caught.value.what
        assert "UTC: SELECT x FROM m.a" in caught.value.what
        assert len(tried) == 2

        def give_way() -> str:
            if len(tried) == 2:
                try:
                    return work()
                finally:
                    other.rollback()
            return work()

        assert database.locking(give_way) == "done"
    assert len(tried) == 4
    assert database.rows("SHOW lock_timeout") == [("15s",)]


def switch_over_all(database: Database, names: Sequence[str]) -> None:
    database.switch_over([switch(name) for name in names])


def alter_all(database: Database, names: Sequence[str]) -> None:
    for name in names:
        database.execute(f"ALTER TABLE {name} ALTER x SET DEFAULT 3")


@pytest.mark.parametrize("change", [switch_over_all, alter_all])
def test_all_locks_of_a_change_are_waited_for_together(
    database: Database,
    postgres_url: str,
    monkeypatch: pytest.MonkeyPatch,
    change: Callable[[Database, Sequence[str]], None],
) -> None:
    """A reader who queued behind the first of them would be cancelled while the next is awaited."""
    monkeypatch.setattr("inchworm.targets.databases.postgres.lock_waits.ATTEMPTS", 1)
    names = ("m.a", "m.b", "m.c")
    for name in names:
        database.build(name, Store.TABLE, "SELECT 1 AS x")
        database.build(f"{name}__beside", Store.TABLE, "SELECT 2 AS x")

    def work() -> None:
        with database.transaction():
            change(database, names)
            assert database.rows("SHOW statement_timeout") == [("0",)]  # what follows has its time

    is_over = threading.Event()

    def give_way_one_after_the_other() -> None:
        with psycopg.connect(postgres_url, autocommit=True) as looking:
            for name, reader in readers.items():
                while not is_over.wait(0.05) and not looking.execute(WAITED_FOR, [name]).fetchall():
                    pass
                is_over.wait(0.5)
                reader.rollback()

    with ExitStack() as stack:
        readers = {name: stack.enter_context(psycopg.connect(postgres_url)) for name in names}
        for name, reader in readers.items():
            reader.execute(f"SELECT x FROM {name}".encode())
        giving_way = threading.Thread(target=give_way_one_after_the_other)
        giving_way.start()
        try:
            with pytest.raises(TargetError, match="waited 800ms for a lock"):
                database.locking(work)
        finally:
            is_over.set()
            giving_way.join()
    before = database.definitions(["m"])
    database.locking(work)
    assert database.definitions(["m"]) != before


def test_a_lock_that_work_comes_to_late_is_waited_for_a_little(
    database: Database, postgres_url: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Its table may be read all the time, each time for an instant."""
    monkeypatch.setattr("inchworm.targets.databases.postgres.lock_waits.ATTEMPTS", 1)
    monkeypatch.setattr("inchworm.targets.databases.postgres.lock_waits.LIMIT", 0.0)
    monkeypatch.setattr("inchworm.targets.databases.postgres.lock_waits._LEAST", 60_000)
    database.build("m.a", Store.TABLE, "SELECT 1 AS x")

    def work() -> None:
        with database.transaction():
            database.execute("ALTER TABLE m.a ALTER x SET DEFAULT 3")

    with (
        psycopg.connect(postgres_url) as reader,
        psycopg.connect(postgres_url, autocommit=True) as looking,
        ThreadPoolExecutor(1) as beside,
    ):
        reader.execute("SELECT x FROM m.a")
        working = beside.submit(database.locking, work)
        while not looking.execute(WAITED_FOR, ["m.a"]).fetchall():
            assert not working.done()
        time.sleep(0.2)  # much longer than a lock is waited for that has no time at all
        reader.rollback()
        working.result()


WAITED_FOR = """
SELECT 1 FROM pg_locks
WHERE NOT granted AND relation = %s::regclass AND mode = 'AccessExclusiveLock'
"""


def test_a_server_that_is_gone(database: Database, postgres_url: str) -> None:
    """The message does not claim to know what became of the last statement."""
    with psycopg.connect(postgres_url, autocommit=True) as other:
        ((pid,),) = database.rows("SELECT pg_backend_pid()")
        with pytest.raises(TargetError, match="does not answer any more"), database.transaction():
            database.execute("CREATE TABLE m.t (x INT)")
            other.execute("SELECT pg_terminate_backend(%s)", [pid])
            database.execute("INSERT INTO m.t VALUES (1)")


def test_a_password_is_not_repeated(postgres_url: str) -> None:
    """Whatever the driver has to say."""
    wrong = postgres_url.replace("river@", "hunter2@")
    with pytest.raises(TargetError) as caught:
        connect(wrong, root=Path(), password=Secret("hunter2", "env:X"))
    assert "hunter2" not in str(caught.value)


def test_looking_changes_nothing(postgres_url: str, tmp_path: Path) -> None:
    """The server itself refuses."""
    database = connect(postgres_url, root=tmp_path, read_only=True)
    with pytest.raises(TargetError, match="read-only transaction"):
        database.create_schema("m")
    database.close()


def test_views_of_others_follow_a_column_that_gets_another_type(database: Database) -> None:
    """With the rights that were granted on them; of one that would break, nothing changes."""
    database.execute("DROP ROLE IF EXISTS reader_of_m")
    database.execute("CREATE ROLE reader_of_m")
    database.execute("CREATE TABLE m.a (x INTEGER, y INTEGER)")
    database.execute("INSERT INTO m.a VALUES (1, 2)")
    database.execute("CREATE VIEW theirs.v AS SELECT x FROM m.a")
    database.execute("CREATE VIEW theirs.w AS SELECT x + 1 AS z FROM theirs.v")
    database.execute("GRANT SELECT ON theirs.w TO reader_of_m")
    with database.restructuring(["m.a"]):
        database.execute("ALTER TABLE m.a ALTER COLUMN x TYPE bigint")
    assert database.rows("SELECT z FROM theirs.w") == [(2,)]
    allowed = "SELECT has_table_privilege('reader_of_m', 'theirs.w', 'SELECT')"
    assert database.rows(allowed) == [(True,)]
    with pytest.raises(TargetError, match="x does not exist"), database.restructuring(["m.a"]):
        database.execute("ALTER TABLE m.a DROP COLUMN x")
    assert database.rows("SELECT z FROM theirs.w") == [(2,)]
    database.execute("DROP OWNED BY reader_of_m")
    database.execute("DROP ROLE reader_of_m")


def test_big_tables_are_not_counted(database: Database, monkeypatch: pytest.MonkeyPatch) -> None:
    """What the statistics say is enough to see what is at stake; and sizes are told."""
    database.build("m.a", Store.TABLE, "SELECT generate_series(1, 5000) AS x")
    database.execute("ANALYZE m.a")
    assert database.about_rows("m.a") is None
    monkeypatch.setattr("inchworm.targets.databases.postgres.catalogue._BIG", 1)
    assert database.about_rows("m.a") == 5000
    size = database.size("m.a")
    assert size is not None
    assert size > 5000 * 4
    assert database.size("m.nothing") is None
