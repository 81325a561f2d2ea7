"""Schemas that nobody here wrote: adopted, promoted into an empty database, and compared by a dump.

Run it with ``python -m tests.schemas FILE...``, each a script (perhaps compressed) that makes a
schema in PostgreSQL. The differences between the dumps of both databases have to be those that
``adopt`` printed.
"""

from __future__ import annotations

import argparse
import gzip
import re
import shutil
import subprocess
import tempfile
from pathlib import Path

import psycopg

from inchworm.application.starting import start_project
from tests import postgres
from tests.driver import Program

DEV = "postgresql://localhost:5432/starter_dev"


def run(program: str, *arguments: str, text: str = "") -> str:
    """Run a program of the PostgreSQL that the tests use."""
    folders = [*sorted(Path("/usr/lib/postgresql").glob("*/bin"), reverse=True)]
    found = next((f / program for f in folders if (f / program).exists()), shutil.which(program))
    if found is None:
        raise SystemExit(f"{program} is not installed: it comes with PostgreSQL.")
    command = [str(found), *arguments]
    done = subprocess.run(command, input=text, capture_output=True, text=True, check=False)
    if done.returncode:
        raise SystemExit(f"{program}: {done.stderr[-2000:]}")
    return done.stdout


def made(server: str, name: str, script: str = "") -> str:
    """The address of a new database, in which a script has run."""
    with psycopg.connect(f"{server}/postgres", autocommit=True) as connection:
        connection.execute(f'CREATE DATABASE "{name}"'.encode())
    url = f"{server}/{name}"
    if script:
        run("psql", "--quiet", "--set", "ON_ERROR_STOP=1", url, text=script)
    return url


_ENTRY = re.compile(r"^-- Name: (?P<name>.*); Type: (?P<type>[^;]*); Schema: .*$", re.MULTILINE)


def dumped(url: str) -> dict[str, str]:
    """The statements of each object of the public schema, by its kind and name."""
    text = run("pg_dump", "--schema-only", "--schema", "public", "--no-owner", "--no-acl", url)
    pieces = _ENTRY.split(text)
    objects: dict[str, str] = {}
    for name, kind, body in zip(pieces[1::3], pieces[2::3], pieces[3::3], strict=True):
        lines = [x for x in body.splitlines() if x and not x.startswith(("--", "SET ", "\\"))]
        objects[f"{kind} {name}"] = "\n".join(lines)
    return objects


def emptied(folder: Path) -> Program:
    """A project without parts."""
    start_project(folder, "starter", "postgres")
    for name in ("schemas", "models", "pipelines"):
        shutil.rmtree(folder / name)
    return Program(folder)


def adopted(program: Program) -> set[str]:
    """Take up the public schema; what was not, as the command prints it."""
    answer = program("adopt", "dev", "public", code=None)
    if answer.code:
        print(answer.err)
        options = [word for word in answer.text.split() if word.startswith("--without=")]
        answer = program("adopt", "dev", "public", *dict.fromkeys(options))
    print(next(line for line in answer.out.splitlines() if line.startswith("done")))
    return {_plain(line) for line in answer.out.splitlines() if line.startswith(_KINDS)}


_KINDS = ("function", "trigger", "procedure", "rule", "statistics", "comment", "option")


def _plain(key: str) -> str:
    """A kind and name without what a dump and the catalogue spell differently."""
    return key.partition("(")[0].replace(" ", "").replace('"', "").lower()


def tried(server: str, number: int, file: Path, folder: Path) -> int:
    """Adopt and promote one schema; how many objects differ that adopt did not name."""
    print(f"== {file.name}")
    script = gzip.decompress(file.read_bytes()) if file.suffix == ".gz" else file.read_bytes()
    live = made(server, f"live_{number}", script.decode())
    empty = made(server, f"empty_{number}")
    program = emptied(folder)
    program.edit("environments/dev.toml", DEV, live)
    told = adopted(program)
    errors = [f for f in program.findings() if f["severity"] == "error"]
    for finding in errors:
        print(f"check: {finding['file']}:{finding['line']} {finding['message']}")
    if errors:
        return len(errors)
    bundle = program.pack()
    for place, url in (("the same", live), ("an empty", empty)):
        settings = (folder / "environments/dev.toml").read_text()
        program.write("environments/dev.toml", settings.replace(live, url))
        answer = program("promote", bundle, "--to", "dev", "--yes", "--json", code=None).json
        print(f"into {place} database: {answer['state']} {answer.get('message') or ''}")
    one, other = dumped(live), dumped(empty)
    differing = sorted(key for key in {*one, *other} if one.get(key) != other.get(key))
    unsaid = [key for key in differing if _plain(key) not in told]
    for key in unsaid:
        print(f"differs, and was not told: {key}")
    print(f"{len(one)} objects, {len(differing)} differ, {len(unsaid)} of them untold")
    return len(unsaid)


def main() -> int:
    """Try all schemas; 1 when one of them differs otherwise than it was told."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("files", type=Path, nargs="+")
    arguments = parser.parse_args()
    with postgres.server() as server, tempfile.TemporaryDirectory() as scratch:
        untold = [
            tried(server, number, file, Path(scratch) / str(number))
            for number, file in enumerate(arguments.files)
        ]
    return 1 if any(untold) else 0


if __name__ == "__main__":
    raise SystemExit(main())
