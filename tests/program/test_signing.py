"""Signatures of bundles and of the ledger's end, and forgeries of both."""

from __future__ import annotations

import json
import sqlite3
from pathlib import Path

import pytest

from inchworm.core.ledger.entries import Entry
from tests.driver import Program
from tests.program.test_entry import demand, draft, gate, key_of, promote

__all__ = ["gate"]


@pytest.fixture
def mira(gate: Program, tmp_path: Path) -> dict[str, str]:
    """The environment variables of somebody whose key the project knows."""
    return key_of(gate, tmp_path, "Mira Fen")


def conditions(program: Program, id_: str) -> dict[str, tuple[bool, str]]:
    judged = program("review", id_, "--json").json["entry"]
    return {each["condition"]: (each["met"], each["evidence"]) for each in judged}


def signatures(program: Program) -> list[Path]:
    return sorted((program.folder / ".inchworm/bundles").glob("*.dsse.json"))


def test_an_environment_takes_signed_bundles_only(gate: Program, mira: dict[str, str]) -> None:
    demand(gate, "bundle_signed = true")
    unsigned = draft(gate)
    assert conditions(gate, unsigned) == {"bundle signed": (False, "not signed")}
    assert "bundle signed" in gate("promote", unsigned, "--yes", code=3).text
    packed = gate("pack", environ=mira)
    assert "signed with the key of whoever packed it" in packed.text
    assert conditions(gate, unsigned) == {"bundle signed": (True, "Mira Fen")}
    promote(gate, unsigned)
    assert gate("history", unsigned, "--json").json["entry"][0]["evidence"] == "Mira Fen"


def test_a_bundle_has_to_be_signed_by_those_who_may(
    gate: Program, mira: dict[str, str], tmp_path: Path
) -> None:
    demand(gate, 'bundle_signed = ["Ole Sund"]')
    id_ = draft(gate)
    gate("pack", environ=mira)
    wanted = "bundle signed by Ole Sund"
    evidence = "not signed; Mira Fen's signature is not asked for"
    assert conditions(gate, id_) == {wanted: (False, evidence)}
    gate("pack", environ=key_of(gate, tmp_path, "Ole Sund"))
    assert len(signatures(gate)) == 2
    met = "Ole Sund; Mira Fen's signature is not asked for"
    assert conditions(gate, id_) == {wanted: (True, met)}


@pytest.mark.parametrize(
    ("forgery", "reason"),
    [
        ("of another bundle", "a signature is of other content"),
        ("by another key", "a signature is made with a key that people.toml does not have"),
        ("altered", "a signature is wrong"),
        ("cut", "a signature file is malformed"),
    ],
)
def test_forged_signatures_of_bundles_count_for_nothing(
    gate: Program, mira: dict[str, str], tmp_path: Path, forgery: str, reason: str
) -> None:
    demand(gate, "bundle_signed = true")
    if forgery == "by another key":
        mira = {**mira, "INCHWORM_KEY": str(tmp_path / "stranger.pem")}
        gate("ledger", "key", environ=mira)
    id_ = draft(gate)
    gate("pack", environ=mira)
    (file,) = signatures(gate)
    held = json.loads(file.read_text())
    if forgery == "of another bundle":
        gate.edit("models/report/daily_total.sql", "sum(amount) AS", "2 * sum(amount) AS")
        id_ = draft(gate)
        bundle = gate("review", id_, "--json").json["bundle"]
        file.rename(file.with_name(f"{bundle}.0123456789abcdef.dsse.json"))
    elif forgery == "altered":
        held["signatures"][0]["sig"] = "A" * 86 + "=="
        file.write_text(json.dumps(held))
    elif forgery == "cut":
        file.write_text(file.read_text()[:-20])
    assert conditions(gate, id_) == {"bundle signed": (False, f"not signed; {reason}")}


def test_a_ledger_that_was_written_anew_is_not_the_one_that_was_signed(
    gate: Program, mira: dict[str, str]
) -> None:
    """All hashes fit, and no database is asked: only the signature tells."""
    gate("approve", draft(gate), environ=mira)
    gate("promote", "P1", "--yes", environ=mira)
    verified = gate("ledger", "verify", "--json").json
    assert [head["by"] for head in verified["signed_heads"]] == ["Mira Fen", "Mira Fen"]
    assert not any(head["problem"] for head in verified["signed_heads"])
    assert "2 signatures of its end" in gate("ledger", "verify").text

    _write_anew(gate.folder / ".inchworm/ledger.sqlite")
    for database in gate.folder.glob(".inchworm/dev.*"):
        database.unlink()
    assert "another one than you have seen" in gate("ledger", "verify", code=1).text
    told = gate("ledger", "verify", code=1, environ={"XDG_CONFIG_HOME": "/nowhere"}).text
    assert "was another one then: the ledger was written anew" in told


def _write_anew(file: Path) -> None:
    """Change who packed, and work out all hashes behind it again."""
    with sqlite3.connect(file) as ledger:
        names = "number, at, by, kind, about, body, before"
        before = ""
        rows = ledger.execute(f"SELECT {names} FROM entries ORDER BY number").fetchall()
        for number, at, by, kind, about, body, first in rows:
            by = "somebody" if kind == "packed" else by
            entry = Entry(
                number=number,
                at=at,
                by=by,
                kind=kind,
                about=about,
                body=json.loads(body),
                before=before or first,
            )
            before = entry.hash
            ledger.execute(
                "UPDATE entries SET by = ?, before = ?, hash = ? WHERE number = ?",
                (by, entry.before, entry.hash, number),
            )


def test_a_build_server_without_home_or_key_packs_all_the_same(
    gate: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.delenv("XDG_CONFIG_HOME")
    monkeypatch.setattr(Path, "home", classmethod(_no_home))
    packed = gate("pack", environ={"HOME": ""})
    assert "signed" not in packed.text
    refused = gate("ledger", "key", environ={"HOME": ""}, code=2)
    assert "Set INCHWORM_KEY" in refused.text
    missing = gate("pack", environ={"INCHWORM_KEY": "/nowhere/key.pem"}, code=2)
    assert "there is no key to sign with" in missing.text


def _no_home(cls: type[Path]) -> Path:
    raise RuntimeError("Could not determine home directory.")
