"""The statements of the SQL parser's own tests, in all its dialects, through the resolver.

Run it with ``python -m tests.statements``. The parser's source distribution of the installed
version is downloaded, or named by ``--folder``. With ``--scripts FOLDER --dialect NAME`` it goes
through the scripts of a database server's own tests instead. Of every query among its statements
each table that it names has to be read or noted, each column found or noted, and nothing may crash.
"""

from __future__ import annotations

import argparse
import ast
import logging
import subprocess
import sys
import tarfile
import tempfile
from collections import Counter
from collections.abc import Iterator
from importlib.metadata import version
from pathlib import Path

from sqlglot import exp
from sqlglot.dialects.dialect import Dialect

from inchworm.core.sql.columns import Resolution, resolve, tables_in
from inchworm.core.sql.names import is_of_system
from inchworm.core.sql.parse import parse_query
from inchworm.core.sql.problems import SqlProblem

_DIALECTS = sorted(name for name in Dialect.classes if name)


def downloaded(folder: Path) -> Path:
    """The parser's source distribution, unpacked."""
    wanted = f"sqlglot=={version('sqlglot')}"
    command = [sys.executable, "-m", "pip", "download", "--quiet", "--no-deps", wanted]
    subprocess.run([*command, "--no-binary", ":all:", "--dest", str(folder)], check=True)
    (archive,) = folder.glob("*.tar.gz")
    with tarfile.open(archive) as packed:
        packed.extractall(folder, filter="data")
    return next(path for path in folder.iterdir() if path.is_dir())


def statements(folder: Path) -> Iterator[tuple[str, str]]:
    """Every text in the tests that may be a statement, with its dialect."""
    for line in (folder / "tests/fixtures/identity.sql").read_text().splitlines():
        yield "", line
    for file in sorted((folder / "tests/dialects").glob("test_*.py")):
        dialect = file.stem.removeprefix("test_")
        dialect = dialect if dialect in _DIALECTS else ""
        for node in ast.walk(ast.parse(file.read_text())):
            if isinstance(node, ast.Constant) and isinstance(node.value, str) and " " in node.value:
                yield dialect, node.value


def of_scripts(folder: Path, dialect: str) -> Iterator[tuple[str, str]]:
    """Every statement of scripts that a server's own tests run; a statement ends with a line."""
    for file in sorted(folder.rglob("*.sql")):
        text = file.read_text(encoding="utf-8", errors="replace")
        lines = [line for line in text.splitlines() if not line.startswith("\\")]
        for statement in "\n".join(lines).split(";\n"):
            yield dialect, statement


def lost(query: exp.Expr, resolution: Resolution, dialect: str) -> Iterator[str]:
    """Names in a query of which neither a read nor a note tells."""
    noted = any(p.kind == "not-understood" for p in resolution.problems)
    unknown = {p.name for p in resolution.problems}
    for name in tables_in(query, dialect):
        if not (noted or name in resolution.tables or name in unknown or is_of_system(name)):
            yield f"table {name}"


def main() -> int:
    """Run all of them; 1 when one crashed or lost a name."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--folder", type=Path, help="the unpacked source distribution")
    parser.add_argument("--scripts", type=Path, help="scripts of a server's tests, and their")
    parser.add_argument("--dialect", default="postgres", help="dialect")
    arguments = parser.parse_args()
    logging.disable()  # the parser says so of each statement that it does not know
    counts: Counter[str] = Counter()
    with tempfile.TemporaryDirectory() as scratch:
        if arguments.scripts:
            texts = of_scripts(arguments.scripts, arguments.dialect)
        else:
            texts = statements(arguments.folder or downloaded(Path(scratch)))
        for dialect, text in dict.fromkeys(texts):
            try:
                query = parse_query(text, dialect)
            except SqlProblem:
                counts["no query"] += 1
                continue
            resolution = resolve(query, {}, dialect)
            counts["queries"] += 1
            if crash := [p.name for p in resolution.problems if p.kind == "not-taken"]:
                counts["crashes"] += 1
                print(f"CRASH {dialect} {crash[0]}\n    {text}")
            for name in lost(query, resolution, dialect):
                counts["lost"] += 1
                print(f"LOST {dialect} {name}\n    {text}")
    print(", ".join(f"{count:,} {what}" for what, count in sorted(counts.items())))
    return 1 if counts["crashes"] or counts["lost"] else 0


if __name__ == "__main__":
    raise SystemExit(main())
