"""Somebody had write access to one of our stores for a moment; what is said afterwards is true.

``INCHWORM_TEST_EDITS`` sets how many random edits are made; 10,000 of them are for a night.
"""

from __future__ import annotations

import json
import os
import random
import shutil
import sqlite3
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

import psycopg
import pytest

from tests.driver import Program
from tests.once import DEV

EDITS = int(os.environ.get("INCHWORM_TEST_EDITS", "200"))
SEED = int(os.environ.get("INCHWORM_TEST_SEED", "35"))

ASKED: dict[str, tuple[str, ...]] = {
    "check": ("check", "--json"),
    "trace": ("trace", "--all", "--json"),
    "params": ("params", "--json"),
    "history": ("history", "--json"),
    "bundles": ("bundles", "--json"),
    "status": ("status", "--json"),
}
"""Commands that tell something; each has to say what it said before, or refuse."""


def truth(program: Program) -> dict[str, Any]:
    """What is so, told in a checkout that nobody has touched."""
    return {name: told(name, program(*asked).json) for name, asked in ASKED.items()}


def told(name: str, document: Any) -> Any:
    """What a command says, without the time at which it did."""
    text = json.dumps(document, sort_keys=True)
    data = json.loads(text)
    data.pop("read_at", None)
    return data


def flip(file: Path, chance: random.Random) -> None:
    content = bytearray(file.read_bytes())
    if content:
        content[chance.randrange(len(content))] ^= 1 << chance.randrange(8)
    file.write_bytes(content)


def cut(file: Path, chance: random.Random) -> None:
    content = file.read_bytes()
    file.write_bytes(content[: chance.randrange(len(content) + 1)])


def remove(file: Path, chance: random.Random) -> None:
    file.unlink()


def replace(file: Path, chance: random.Random) -> None:
    """Words that decide something become others."""
    pairs = [(b"true", b"fals"), (b"error", b"notee"), (b"done", b"dono"), (b"lena", b"mira")]
    content = file.read_bytes()
    for old, new in chance.sample(pairs, 2):
        content = content.replace(old, new)
    file.write_bytes(content)


def update(file: Path, chance: random.Random) -> None:
    """Another value in some row of a SQLite file."""
    with suppress(sqlite3.Error), sqlite3.connect(file) as store:
        names = [r[0] for r in store.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
        if not names:
            return
        table = chance.choice(names)
        columns = [row[1] for row in store.execute(f'PRAGMA table_info("{table}")')]
        column = chance.choice(columns)
        (count,) = store.execute(f'SELECT count(*) FROM "{table}"').fetchone()
        row = chance.randrange(count) if count else 0
        value = chance.choice(["x", "done", "approved", "0", "", "2026-01-01T00:00:00+00:00"])
        rows = store.execute(f'SELECT "{column}" FROM "{table}" LIMIT 1 OFFSET ?', [row]).fetchone()
        if rows and rows[0] != value:
            store.execute(
                f'UPDATE "{table}" SET "{column}" = ? WHERE "{column}" IS ?', [value, *rows]
            )


HOW: tuple[Callable[[Path, random.Random], None], ...] = (
    flip,
    cut,
    remove,
    replace,
    update,
    update,
)


@pytest.mark.long
def test_what_is_said_after_an_edit_is_true_or_refused(plain: Program, tmp_path: Path) -> None:
    """Caches, ledger, bundle store and books, edited at random, one at a time."""
    plain.git("init", "--quiet", "--initial-branch", "main")
    plain.git("add", "--all")
    plain.git("commit", "--quiet", "--message", "First")
    plain.promote(plain.pack(), "dev")
    expected = truth(plain)
    truth(plain)  # once more, from what is remembered
    pristine = tmp_path / "pristine"
    shutil.copytree(plain.folder / ".inchworm", pristine)
    chance = random.Random(SEED)
    files = sorted(f.relative_to(pristine) for f in pristine.rglob("*") if f.is_file())
    for number in range(EDITS):
        shutil.rmtree(plain.folder / ".inchworm")
        shutil.copytree(pristine, plain.folder / ".inchworm")
        file, how = chance.choice(files), chance.choice(HOW)
        how(plain.folder / ".inchworm" / file, chance)
        case = f"seed {SEED}, edit {number}: {how.__name__} {file}"
        for name in chance.sample(sorted(ASKED), 2):
            answer = plain(*ASKED[name], code=None)
            assert "Traceback" not in answer.err, case
            if answer.code == 0 and told(name, answer.json) != expected[name]:
                assert _is_of_a_witness(plain, name, str(file)), f"{case}: {name}\n{answer.out}"


def _is_of_a_witness(program: Program, name: str, file: str) -> bool:
    """Whether what was edited is a witness of its own, and somebody else contradicts it.

    A database's books and services say what is live; what they say otherwise than the ledger,
    ``ledger verify`` and ``drift`` tell. A bundle store or ledger that is gone says that.
    """
    if name == "bundles" and file.startswith("bundles/"):
        return True  # it lists what is there, and why what is there cannot be read
    if "ledger" in file:
        return not (program.folder / ".inchworm" / file).exists() or _verifies(program) == 1
    return file.startswith(("dev.", "sim/"))  # the targets say themselves what is in them


def _verifies(program: Program) -> int:
    return program("ledger", "verify", code=None).code


@pytest.mark.long
def test_the_same_of_rows_in_a_server(starter: Program, postgres_url: str) -> None:
    """Its ledger and its books, a row at a time, by somebody who may do everything there."""
    address = starter.folder / "environments/dev.toml"
    address.write_text(address.read_text().replace(DEV, postgres_url))
    settings = starter.folder / "inchworm.toml"
    settings.write_text(f'{settings.read_text()}\n[storage]\nledger = "{postgres_url}"\n')
    bundle = starter.pack()
    starter.promote(bundle, "dev")
    expected = truth(starter)
    chance = random.Random(SEED)
    with psycopg.connect(postgres_url, autocommit=True) as enemy:
        query = (
            "SELECT table_schema, table_name, column_name FROM information_schema.columns "
            "WHERE table_schema LIKE 'inchworm%' AND data_type IN ('text', 'character varying') "
            "ORDER BY 1, 2, 3"
        )
        columns = enemy.execute(query).fetchall()
        for number in range(EDITS // 4):
            schema, table, column = chance.choice(columns)
            of = f'"{schema}"."{table}"'
            rows = enemy.execute(f'SELECT ctid, "{column}" FROM {of}'.encode()).fetchall()
            if not rows:
                continue
            place, old = chance.choice(rows)
            change = f'UPDATE {of} SET "{column}" = %s WHERE ctid = %s RETURNING ctid'.encode()
            value = chance.choice(["x", "done", "approved", "0", "2026-01-01T00:00:00+00:00"])
            if value == old:
                continue
            edited = enemy.execute(change, [value, place]).fetchone()
            assert edited is not None
            case = f"seed {SEED}, edit {number}: {column} of {of}"
            for name in chance.sample(sorted(ASKED), 2):
                answer = starter(*ASKED[name], code=None)
                assert "Traceback" not in answer.err, case
                is_so = answer.code != 0 or told(name, answer.json) == expected[name]
                is_of_books = schema == "inchworm"  # the target says itself what is in it
                assert is_so or is_of_books or _verifies(starter) == 1, f"{case}: {answer.out}"
            enemy.execute(change, [old, edited[0]])
