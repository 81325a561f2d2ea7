"""What an environment has is remembered as long as nobody writes to its database's files."""

from __future__ import annotations

import os
import time

import pytest

from inchworm.engine import connections
from inchworm.targets.databases.file_states import SETTLES_AFTER
from tests.driver import Program
from tests.once import DEV, SQLITE, Once


@pytest.fixture(params=[DEV, SQLITE], ids=["duckdb", "sqlite"])
def live(once: Once, starter: Program, request: pytest.FixtureRequest) -> tuple[Program, str]:
    """A new project that is live in a database of files."""
    url = str(request.param)
    starter.edit("environments/dev.toml", DEV, url)
    once(_promote, starter, url)
    return starter, url


def _promote(program: Program, url: str) -> None:
    program.promote(program.pack(), "dev")


def remember(program: Program, *command: str) -> None:
    """Look once the database has settled: what was written to a moment ago is not remembered."""
    written = max(file.stat().st_ctime for file in (program.folder / ".inchworm").glob("dev.*"))
    time.sleep(max(0, written + SETTLES_AFTER + 0.1 - time.time()))
    program(*command)


def what_is_live(program: Program) -> object:
    """What status says of development; the time at which it was read left out."""
    (dev,) = program("status", "dev", "--json").json["environments"]
    return {key: value for key, value in dev.items() if key != "read_at"}


def test_its_database_is_not_asked_again(
    live: tuple[Program, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    program, url = live
    asked = what_is_live(program)
    remember(program, "status")
    with monkeypatch.context() as patched:
        patched.setattr(connections, "connect", lambda *_, **__: pytest.fail("it was opened"))
        assert what_is_live(program) == asked
        program("drift", "dev")
    program.ask(url, "DROP TABLE ops.measurement", "SELECT 1")
    assert "schema:ops" in program("drift", "dev", code=1).text


def test_a_draft_goes_by_what_is_remembered_and_a_promotion_by_what_is_there(
    live: tuple[Program, str],
) -> None:
    program, url = live
    program.write("models/report/other.sql", "SELECT 1 AS n")
    bundle = program.pack()
    remember(program, "promote", bundle, "--to", "dev", "--draft")
    answer = program("promote", bundle, "--to", "dev", "--draft", "--json").json
    built = [step["part"] for step in answer["steps"] if step["phase"] == "build"]
    assert built == ["model:report.other"]
    program.ask(url, "CREATE TABLE ops.more (n INTEGER)", "SELECT 1")
    said = program("promote", answer["id"], "--yes", code=4).text
    assert "moved" in said or "is not as" in said
    program.promote(bundle, "dev")
    assert program.ask(url, "SELECT * FROM report.other") == [(1,)]


def test_times_that_are_set_back_deceive_nobody(live: tuple[Program, str]) -> None:
    program, url = live
    remember(program, "status")
    files = list((program.folder / ".inchworm").glob("dev.*"))
    before = {file: file.stat() for file in files}
    program.ask(url, "ALTER TABLE ops.measurement RENAME COLUMN amount TO amounts", "SELECT 1")
    for file, state in before.items():
        if file.exists():
            os.utime(file, ns=(state.st_atime_ns, state.st_mtime_ns))
    assert "schema:ops" in program("drift", "dev", code=1).text


def test_whoever_reaches_it_otherwise_is_asked_anew(live: tuple[Program, str]) -> None:
    """Other settings of the environment are another question."""
    program, url = live
    remember(program, "status")
    program.edit("environments/dev.toml", f'"{url}"', f'"{url}"\nbookkeeping = "elsewhere"')
    (dev,) = program("status", "dev", "--json").json["environments"]
    assert dev["parts"] == 0


@pytest.mark.parametrize("url", [DEV, SQLITE], ids=["duckdb", "sqlite"])
def test_a_database_that_is_not_there_yet_is_remembered_as_empty(
    starter: Program, url: str
) -> None:
    starter.edit("environments/dev.toml", DEV, url)
    bundle = starter.pack()
    for _ in range(2):
        starter("status")
        drafted = starter("promote", bundle, "--to", "dev", "--draft", "--json").json
        assert {step["reason"] for step in drafted["steps"] if step["phase"] == "build"} == {
            "new here"
        }
    starter.promote(bundle, "dev")
    (dev,) = starter("status", "dev", "--json").json["environments"]
    assert dev["bundle"] == bundle
