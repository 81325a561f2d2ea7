"""Secrets go where they are needed, and nowhere else."""

from __future__ import annotations

import base64
import html
import json
import signal
import socket
import subprocess
import sys
import time
import urllib.parse
import zipfile
from collections.abc import Iterator
from pathlib import Path

import duckdb
import httpx
import pytest

from tests.driver import PLAIN, Answer, Program
from tests.program.crash import die
from tests.program.test_faults import REPOSITORY

CANARIES = {
    "CANARY_ENV": "cAnAry-env+/=\"é\\<b>&'%20 7f3a",
    "CANARY_FILE": "cAnAry-file+/=\"é\\<b>&'%20 91bc",
    "CANARY_STORED": "cAnAry-store+/=\"é\\<b>&'%20 22d0",
    "CANARY_PLUG": "cAnAry-plug+/=\"é\\<b>&'%20 e5e5",
    "CANARY_TOKEN": "cAnAry-token-8d2e71",
    "STORE_TOKEN": "cAnAry-opens-4417aa",
}
PARAMETERS = """
[secret_env]
type = "secret"
every = "env:CANARY_ENV"
[secret_file]
type = "secret"
every = "file:.secrets/canary"
[secret_stored]
type = "secret"
every = "secret:river/canary#value"
[secret_plug]
type = "secret"
every = "plug:canary"
[service_token]
type = "secret"
every = "env:CANARY_TOKEN"
"""
USE = """
[credentials]
one = "${secret_env}"
two = "${secret_file}"
three = "${secret_stored}"
four = "${secret_plug}"
"""
PLUGIN = """
import os

class Source:
    def get(self, place):
        return os.environ["CANARY_PLUG"], "7"

def source(root):
    return Source()
"""


@pytest.fixture
def port() -> int:
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return int(found.getsockname()[1])


KEEP = ("keep", "store", "river/canary#value", "env:CANARY_STORED")


class Guarded(Program):
    """The program with secrets of every kind, all of it to be searched afterwards."""

    @property
    def environ(self) -> dict[str, str]:
        plugins = f"{self.folder.parent / 'plugin'}:{REPOSITORY}"
        return super().environ | CANARIES | {"PYTHONPATH": plugins}

    __call__ = Program.process  # a plugin is found when a process starts


@pytest.fixture
def guarded(released: Program, tmp_path: Path, port: int) -> Iterator[Guarded]:
    """Riverwatch with a secret of every kind in use, and services that ask for a token."""
    program = Guarded(released.folder)
    plugin = tmp_path / "plugin"
    (plugin / "canary-1.dist-info").mkdir(parents=True)
    (plugin / "canary.py").write_text(PLUGIN)
    (plugin / "canary-1.dist-info/METADATA").write_text("Metadata-Version: 2.1\nName: canary\n")
    entry = "[inchworm.secrets]\nplug = canary:source\n"
    (plugin / "canary-1.dist-info/entry_points.txt").write_text(entry)
    file = program.folder / ".secrets/canary"
    file.write_text(CANARIES["CANARY_FILE"])
    file.chmod(0o600)
    for arguments in (("grant", "store", "env:STORE_TOKEN"), KEEP):
        Program.__call__(program, "sim", *arguments)
    with (program.folder / "parameters.toml").open("a") as matrix:
        matrix.write(PARAMETERS)
    program.edit("connections/notice_service.toml", "[credentials]", USE.strip())
    for name in ("dev", "test"):
        settings = '\n[secret_store]\nurl = "sim:store"\ntoken = "env:STORE_TOKEN"\n'
        service = f'url = "http://127.0.0.1:{port}"\ntoken = "${{service_token}}"'
        program.edit(f"environments/{name}.toml", f'url = "sim:{name}"', service)
        program.edit(f"environments/{name}.toml", "[schedules]", f"{settings}\n[schedules]")
        password = '\npassword = "${secret_stored}"\n[workspace]'
        program.edit(f"environments/{name}.toml", "\n[workspace]", password)
        program.edit(
            f"environments/{name}.toml",
            "[databases",
            'shared = ["workspace", "gateway"]\n[databases',
        )
    server = program.start(
        "sim", "serve", "both", "--port", str(port), "--token", "env:CANARY_TOKEN"
    )
    for _ in range(200):
        try:
            httpx.get(f"http://127.0.0.1:{port}/openapi.json", verify=PLAIN)
            break
        except httpx.HTTPError:
            time.sleep(0.05)
    yield program
    server.send_signal(signal.SIGTERM)
    out, err = server.communicate(timeout=20)
    assert not spelled_in(f"{out}{err}".encode())


def forms(secret: str) -> list[bytes]:
    """A secret, and how it looks encoded in the usual ways."""
    raw = secret.encode()
    return [
        raw,
        base64.b64encode(raw),
        base64.urlsafe_b64encode(raw),
        urllib.parse.quote(secret).encode(),
        urllib.parse.quote_plus(secret).encode(),
        json.dumps(secret)[1:-1].encode(),
        json.dumps(secret, ensure_ascii=False)[1:-1].encode(),
        html.escape(secret).encode(),
        repr(secret)[1:-1].encode(),
        raw.hex().encode(),
    ]


def spelled_in(content: bytes) -> list[str]:
    """The canaries that some bytes hold, in any form."""
    return [name for name, secret in CANARIES.items() if any(f in content for f in forms(secret))]


_ROWS = 500


def leaks(program: Program) -> list[str]:
    """Every file that holds a canary, other than those that must."""
    found = []
    for path in sorted(program.folder.rglob("*")):
        where = path.relative_to(program.folder).as_posix()
        if not path.is_file() or where.startswith((".secrets/", ".inchworm/sim/store.")):
            continue
        contents = [path.read_bytes()]
        if path.suffix == ".zip":
            with zipfile.ZipFile(path) as bundle:
                contents += [bundle.read(name) for name in bundle.namelist()]
        if path.suffix == ".duckdb":
            with duckdb.connect(str(path), read_only=True) as database:
                tables = database.execute("SELECT schema_name, table_name FROM duckdb_tables()")
                for schema, table in tables.fetchall():
                    # the readings are many and generated; what is ours to write is not
                    query = f'SELECT * FROM "{schema}"."{table}" LIMIT {_ROWS}'
                    contents.append(repr(database.execute(query).fetchall()).encode())
        found += [f"{where}: {name}" for content in contents for name in spelled_in(content)]
    return found


def silent(answer: Answer) -> Answer:
    """The answer, after seeing that it shows no canary."""
    assert not spelled_in(f"{answer.out}{answer.err}".encode())
    return answer


def test_the_search_finds_what_is_there(guarded: Guarded) -> None:
    """In a file, in a bundle and in a database; or the test below could not fail."""
    guarded.write("notes.txt", urllib.parse.quote(CANARIES["CANARY_ENV"]))
    with zipfile.ZipFile(guarded.folder / "x.zip", "w", zipfile.ZIP_DEFLATED) as bundle:
        bundle.writestr("a", CANARIES["CANARY_FILE"] * 50)
    with duckdb.connect(str(guarded.folder / "y.duckdb")) as database:
        database.execute("CREATE TABLE t AS SELECT ? AS x", [CANARIES["CANARY_STORED"]])
    found = leaks(guarded)
    assert {"notes.txt: CANARY_ENV", "x.zip: CANARY_FILE", "y.duckdb: CANARY_STORED"} <= set(found)


@pytest.mark.long
def test_no_secret_is_left_anywhere(guarded: Guarded) -> None:
    """Through a promotion that succeeds, and one that dies again and again and goes on."""
    silent(guarded("check"))
    silent(guarded("params"))
    silent(guarded("params", "secret_stored"))
    silent(guarded("doctor", "dev"))
    name = guarded.release("1.5.0")
    silent(guarded.promote(name, "dev"))
    drafted = silent(guarded("promote", name, "--to", "test", "--draft", "--json")).json
    used = {secret["name"]: secret["version"] for secret in drafted["secrets"]}
    assert used["secret_stored"] == "1"
    assert used["secret_plug"] == ""  # the gateway asks for it, and this machine does not
    for step in drafted["steps"][::4]:
        die(guarded, drafted["id"], f"before:{step['number']}")
    assert silent(guarded("promote", drafted["id"], "--yes", "--json")).json["state"] == "done"
    for command in ("status", "history", "bundles", "doctor"):
        silent(guarded(command, code=None))
    silent(guarded("status", "test", "--json"))
    assert leaks(guarded) == []


def test_notebooks_get_the_secret_itself(guarded: Guarded) -> None:
    """And leave no copy of it."""
    code = (
        "import hashlib, os\nfrom inchworm.notebook import env\n"
        "for kind in ('env', 'file', 'stored', 'plug'):\n"
        "    assert env.value(f'secret_{kind}') == os.environ[f'CANARY_{kind.upper()}'], kind\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", code],
        cwd=guarded.folder,
        env=guarded.environ | {"INCHWORM_ENV": "dev"},
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stderr
    assert leaks(guarded) == []


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"STORE_TOKEN": "cAnAry-wrong"}, "our token is missing, wrong or has expired"),
        ({"CANARY_TOKEN": "cAnAry-wrong"}, "401"),
    ],
    ids=["wrong token of the store", "wrong service token"],
)
def test_a_secret_that_cannot_be_had_stops_the_draft(
    guarded: Guarded, change: dict[str, str], says: str
) -> None:
    """Before any step; and the message does not repeat what was tried."""
    name = guarded.release("1.5.0")
    answer = guarded("promote", name, "--to", "dev", "--yes", code=1, environ=change)
    assert says in answer.text
    assert "cAnAry" not in answer.text
    assert not [p for p in guarded("history", "--json").json["promotions"] if p["bundle"] == name]
    assert leaks(guarded) == []


def test_the_machine_that_drafts_needs_no_secret_of_a_service(guarded: Guarded) -> None:
    """The gateway has it, and resolves it there."""
    name = guarded.release("1.5.0")
    without = {"CANARY_ENV": "", "CANARY_PLUG": ""}
    done = guarded("promote", name, "--to", "dev", "--yes", "--json", environ=without).json
    assert done["state"] == "done"
    assert leaks(guarded) == []


def test_a_secret_that_is_no_longer_valid_stops_the_draft_too(guarded: Guarded) -> None:
    """Until a new version is there; an older version can be asked for by its number."""
    guarded("sim", "keep", "store", "river/canary#value", "env:CANARY_STORED", "--for", "1h")
    name = guarded.release("1.5.0")
    moved = guarded("sim", "clock", "store", "--by", "2h").text
    assert "2h ahead of this machine" in moved
    answer = silent(guarded("promote", name, "--to", "dev", "--yes", code=1))
    assert "it is valid no longer" in answer.text
    guarded("params", "set", "secret_stored", "every", "secret:river/canary@1#value")
    name = guarded.release("1.5.1")
    drafted = silent(guarded("promote", name, "--to", "dev", "--draft", "--json")).json
    assert {s["name"]: s["version"] for s in drafted["secrets"]}["secret_stored"] == "1"


def test_a_token_of_the_store_ends_by_the_clock_of_the_store(guarded: Guarded) -> None:
    name = guarded.release("1.5.0")
    guarded("sim", "clock", "store", "--by", "2h")
    guarded("sim", "grant", "store", "env:STORE_TOKEN", "--for", "1h")
    silent(guarded("promote", name, "--to", "dev", "--draft"))
    guarded("sim", "clock", "store", "--by", "90m")
    answer = silent(guarded("promote", name, "--to", "dev", "--draft", code=1))
    assert "has expired" in answer.text
    assert guarded("sim", "clock", "store", "--reset").text.endswith("UTC for sim:store.")
    silent(guarded("promote", name, "--to", "dev", "--draft"))
    for mistyped in (("clock", "stroe"), ("received", "stroe"), ("refuse", "stroe", "x")):
        said = guarded("sim", *mistyped, code=2).text
        assert "Nothing uses a simulated service stroe here." in said
        assert "Did you mean store?" in said
    said = guarded("sim", "clock", "store", "--by", "9999w", code=2).text
    assert "more than 50 years ahead" in said
