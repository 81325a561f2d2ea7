"""Where there are thousands of models: what is asked once for all is not asked for each."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest

from inchworm.targets.databases.bookkeeping.beside import RelationsBeside
from inchworm.targets.databases.duckdb.catalogue import DuckDbCatalogue
from tests.driver import Program

MOST = 5


@pytest.fixture
def models(starter: Program) -> Program:
    """A project with some models, which are live, and are built one at a time."""
    starter.edit("environments/dev.toml", "[databases.main]", "[databases.main]\nthreads = 1")
    for number in range(MOST):
        starter.write(
            f"models/m/t{number}.sql", f'/*---\nstore = "table"\n---*/\nSELECT {number} x'
        )
    starter.promote(starter.pack(), "dev")
    return starter


def change(program: Program, tables: int) -> str:
    """Have some of the models give something else; the bundle."""
    for number in range(tables):
        path = f"models/m/t{number}.sql"
        program.write(path, (program.folder / path).read_text().replace(" x", " + 1 x"))
    return program.pack()


def calls_of(
    monkeypatch: pytest.MonkeyPatch, owner: type[Any], name: str
) -> Callable[[Callable[[], object]], int]:
    """A function that says how often a method is called while it calls something."""
    called: list[str] = []
    method = getattr(owner, name)

    def counted(*arguments: Any, **options: Any) -> Any:
        called.append(name)
        return method(*arguments, **options)

    monkeypatch.setattr(owner, name, counted)

    def calls(work: Callable[[], object]) -> int:
        called.clear()
        work()
        return len(called)

    return calls


def test_a_rollback_asks_the_catalogue_as_often_for_many_tables_as_for_one(
    models: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """An answer takes a tenth of a second where there are thousands."""
    calls = calls_of(monkeypatch, DuckDbCatalogue, "kinds")

    def asked(tables: int) -> int:
        models.promote(change(models, tables), "dev")
        return calls(lambda: models("rollback", "dev", "--yes"))

    of_one = asked(1)
    assert asked(MOST) == of_one


def test_many_builds_are_undone_as_one(models: Program, monkeypatch: pytest.MonkeyPatch) -> None:
    """What is beside the live tables is read once for all of them."""
    models.write("checks/never.sql", "SELECT x FROM m.t0")
    calls = calls_of(monkeypatch, RelationsBeside, "aside")

    def asked(tables: int) -> int:
        bundle = change(models, tables)
        return calls(lambda: models.promote(bundle, "dev", code=1))

    of_one = asked(1)
    assert asked(MOST) == of_one
    assert models.query("dev", "SELECT x FROM m.t0") == [(0,)]
    beside = "SELECT count(*) FROM inchworm.aside WHERE purpose = 'staging'"
    assert models.query("dev", beside) == [(0,)]
