"""A ledger that several checkouts share, in a server."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import pytest

from inchworm.engine import connections, promoting
from tests.driver import Program

_STORAGE = 'dialect = "duckdb"\n[storage]\nledger = "{ledger}"\nbundles = "{bundles}"\n{more}'


@pytest.fixture
def shared(starter: Program, postgres_url: str, tmp_path: Path) -> Program:
    """A project whose ledger and bundles are where all checkouts find them; dev and then test."""
    storage = _STORAGE.format(ledger=postgres_url, bundles=tmp_path / "bundles", more="")
    starter.edit("inchworm.toml", 'dialect = "duckdb"', storage)
    dev = (starter.folder / "environments/dev.toml").read_text()
    test = dev.replace("dev.duckdb", "test.duckdb").replace("sim:dev", "sim:test")
    starter.write("environments/test.toml", f'after = ["dev"]\n{test}')
    starter.edit("parameters.toml", "dev = ", 'test = "2026-01-01"\ndev = ')
    for name in ("dev", "test"):
        database = f"duckdb:///{tmp_path}/{name}.duckdb".replace("///", "////")
        starter.edit(f"environments/{name}.toml", f"duckdb:///.inchworm/{name}.duckdb", database)
    return starter


def test_a_fresh_clone_goes_on_where_another_checkout_was(shared: Program, tmp_path: Path) -> None:
    """It knows what has passed, promotes it further, and both tell one story."""
    bundle = shared.pack()
    assert shared.promote(bundle, "dev").json["id"] == "P1"
    clone = Program(tmp_path / "clone")
    shutil.copytree(shared.folder, clone.folder, ignore=shutil.ignore_patterns(".inchworm"))
    assert clone.promote(bundle, "test").json["id"] == "P2"
    ids = [
        [p["id"] for p in each("history", "--json").json["promotions"]] for each in (shared, clone)
    ]
    assert ids == [["P2", "P1"], ["P2", "P1"]]
    assert not (clone.folder / ".inchworm/ledger.sqlite").exists()
    probes = {p["what"]: p for p in clone("doctor", "--json", code=None).json["probes"]}
    assert "entries, intact" in probes["ledger"]["message"]


def test_what_one_drafted_another_carries_out(shared: Program, tmp_path: Path) -> None:
    """As five engineers and a build server do."""
    bundle = shared.pack()
    drafted = shared("promote", bundle, "--to", "dev", "--draft", "--json").json
    clone = Program(tmp_path / "clone")
    shutil.copytree(shared.folder, clone.folder, ignore=shutil.ignore_patterns(".inchworm"))
    assert clone("promote", drafted["id"], "--yes", "--json").json["state"] == "done"
    assert "is done" in shared("promote", drafted["id"], "--yes", code=2).text


def test_of_two_who_carry_out_one_draft_the_second_hears_that_it_is_done(
    shared: Program, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    bundle = shared.pack()
    drafted = shared("promote", bundle, "--to", "dev", "--draft", "--json").json
    clone = Program(tmp_path / "clone")
    shutil.copytree(shared.folder, clone.folder, ignore=shutil.ignore_patterns(".inchworm"))
    opened = connections.open_environment

    def behind_another(*arguments: Any, **settings: Any) -> Any:
        """The other one was quicker, after the first had seen a draft that may go."""
        clone.process("promote", drafted["id"], "--yes")
        return opened(*arguments, **settings)

    monkeypatch.setattr(promoting, "open_environment", behind_another)
    answer = shared("promote", drafted["id"], "--yes", code=4)
    assert f"{drafted['id']} is done by now: somebody else carried it out." in answer.text
    assert f"inchworm history {drafted['id']}" in answer.text


def test_a_ledger_that_does_not_answer(starter: Program) -> None:
    """Is told with its place, without the password, and with what to do."""
    storage = _STORAGE.format(
        ledger="postgresql://river@127.0.0.1:1/ledger",
        bundles=".inchworm/bundles",
        more='password = "env:LEDGER_PASSWORD"',
    )
    starter.edit("inchworm.toml", 'dialect = "duckdb"', storage)
    answer = starter("history", code=None, environ={"LEDGER_PASSWORD": "hunter2"})
    assert answer.code == 1
    assert "the ledger in ledger on 127.0.0.1" in answer.text
    assert "hunter2" not in answer.text
    missing = starter("history", code=None)
    assert "LEDGER_PASSWORD is not set" in missing.text


@pytest.mark.parametrize("ledger", ["mysql://x/y", "s3://bucket/ledger", "postgres_//x"])
def test_no_other_address_is_taken_for_a_path(starter: Program, ledger: str) -> None:
    """It is refused where it is written."""
    storage = _STORAGE.format(ledger=ledger, bundles=".inchworm/bundles", more="")
    starter.edit("inchworm.toml", 'dialect = "duckdb"', storage)
    answer = starter("history", code=None)
    if "://" not in ledger:
        assert answer.code == 0
        return
    assert answer.code == 1
    assert "inchworm.toml:6" in answer.text
    assert "postgresql://user@host/database" in answer.text
