"""Driving the built program on files in a folder.

Most runs are in this process: a start costs a second, what a command does a tenth of it.
"""

from __future__ import annotations

import io
import json
import os
import signal
import ssl
import subprocess
import sys
import uuid
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, redirect_stderr, redirect_stdout
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import duckdb

from inchworm.cli.main import main
from inchworm.core.errors import TargetError
from inchworm.core.seal import Sealer
from inchworm.core.trust import ANYWHERE, Trust
from inchworm.targets.databases import connect
from tests.forked import Started

COMMAND = [sys.executable, "-m", "inchworm"]

SEALER = Sealer(b"of the tests")


def trusted(folder: Path) -> Trust:
    """What a user allows who trusts the project in a folder wholly."""
    anywhere = {ANYWHERE: frozenset({ANYWHERE})}
    return Trust(folder=str(folder), is_given=True, destinations=anywhere)


PLAIN = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
"""For requests over http: reading the certificates for https takes longer than they do."""


@dataclass(frozen=True)
class Answer:
    """What a run of the program gave back."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        """Standard output as JSON."""
        return json.loads(self.out)

    @property
    def text(self) -> str:
        """Everything printed, with all white space folded, so that line breaks do not matter."""
        return " ".join(f"{self.out} {self.err}".split())


@dataclass(frozen=True)
class Program:
    """The program in a project's folder."""

    folder: Path

    def __call__(
        self, *arguments: str, code: int | None = 0, environ: Mapping[str, str] | None = None
    ) -> Answer:
        """Run a command in this process; its exit code must be ``code``, unless that is None."""
        answer = _run_here(self.folder, arguments, self.environ | dict(environ or {}))
        return self._checked(arguments, answer, code)

    def process(
        self, *arguments: str, code: int | None = 0, environ: Mapping[str, str] | None = None
    ) -> Answer:
        """The same in a process of its own, a fork, for what only a process shows."""
        process = Started(self.folder, self.environ | dict(environ or {}), arguments)
        out, err = process.communicate(timeout=120)
        return self._checked(arguments, Answer(process.wait(), out, err), code)

    @staticmethod
    def _checked(arguments: Sequence[str], answer: Answer, code: int | None) -> Answer:
        assert "Traceback" not in answer.err, answer.err
        if code is not None:
            assert answer.code == code, f"{arguments} ended with {answer.code}:\n{answer}"
        return answer

    @property
    def environ(self) -> dict[str, str]:
        """The environment variables of a run."""
        trusted = {"INCHWORM_TRUST": str(self.folder.resolve()), "INCHWORM_TRUST_ADDRESSES": "*"}
        return {**os.environ, **trusted, "INCHWORM_USER": "lena", "NO_COLOR": "1"}

    def start(self, *arguments: str, environ: Mapping[str, str] | None = None) -> Started:
        """Start a command and leave it running."""
        return Started(self.folder, self.environ | dict(environ or {}), arguments)

    def write(self, path: str, content: str) -> None:
        """Write a file."""
        file = self.folder / path
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(content)

    def edit(self, path: str, old: str, new: str) -> None:
        """Replace text that must be there."""
        file = self.folder / path
        text = file.read_text()
        assert old in text
        file.write_text(text.replace(old, new))

    def git(self, *arguments: str) -> str:
        """Run git."""
        done = subprocess.run(
            ["git", "-c", "user.name=t", "-c", "user.email=t@t.example", *arguments],
            cwd=self.folder,
            capture_output=True,
            text=True,
            check=True,
        )
        return done.stdout.strip()

    def release(self, version: str) -> str:
        """Raise the version, commit, tag and pack; returns the bundle's name."""
        settings = self.folder / "inchworm.toml"
        lines = settings.read_text().splitlines()
        changed = [f'version = "{version}"' if x.startswith("version") else x for x in lines]
        settings.write_text("\n".join(changed) + "\n")
        self.git("add", "--all")
        self.git("commit", "--quiet", "--message", f"Version {version}")
        self.git("tag", f"v{version}")
        return str(self("pack", "--json").json["bundle"])

    def pack(self) -> str:
        """Pack the tree as it is; returns the bundle's name."""
        return str(self("pack", "--json").json["bundle"])

    def promote(self, bundle: str, environment: str, code: int | None = 0) -> Answer:
        """Promote without being asked."""
        return self("promote", bundle, "--to", environment, "--yes", "--json", code=code)

    def findings(self, code: int | None = None) -> list[dict[str, Any]]:
        """What check finds."""
        found: list[dict[str, Any]] = self("check", "--json", code=code).json["findings"]
        return found

    def ask(self, url: str, *statements: str) -> list[tuple[Any, ...]]:
        """Run statements in a database of any kind; what it says to the last of them."""
        if url.startswith("duckdb:"):
            with _attached(self.folder / url.removeprefix("duckdb:///")) as connection:
                try:
                    for statement in statements:
                        connection.execute(statement)
                    answer: list[tuple[Any, ...]] = connection.fetchall()
                except duckdb.Error as error:
                    raise TargetError(str(error)) from error
                return answer
        database = connect(url, root=self.folder)
        for statement in statements[:-1]:
            database.execute(statement)
        found = database.rows(statements[-1])
        database.close()
        return found

    def query(self, environment: str, sql: str) -> list[tuple[Any, ...]]:
        """Ask an environment's database itself."""
        path = {
            "dev": self.folder / ".inchworm/dev.duckdb",
            **{e: self.folder / f"data/river_{e}.duckdb" for e in ("test", "prod")},
        }[environment]
        if (self.folder / "data").exists():
            path = self.folder / f"data/river_{environment}.duckdb"
        with _attached(path) as connection:
            rows: list[tuple[Any, ...]] = connection.execute(sql).fetchall()
            return rows


_DUCKDB = duckdb.connect()
"""Files are attached to it: to start DuckDB anew takes ten times as long."""


@contextmanager
def _attached(file: Path) -> Iterator[duckdb.DuckDBPyConnection]:
    """A connection for which a file is the database."""
    file.parent.mkdir(parents=True, exist_ok=True)
    name = f"f{uuid.uuid4().hex}"
    with _DUCKDB.cursor() as connection:
        connection.execute(f"ATTACH '{file}' AS {name}")
        try:
            connection.execute(f"USE {name}")
            yield connection
        finally:
            connection.execute("USE memory")
            connection.execute(f"DETACH {name}")


def _run_here(folder: Path, arguments: Sequence[str], environ: Mapping[str, str]) -> Answer:
    """What the program does when it is started in a folder, without the cost of a start."""
    before = os.getcwd(), dict(os.environ), sys.argv, sys.stdin
    out, err = io.StringIO(), io.StringIO()
    code: object = 0
    try:
        os.chdir(folder)
        _set_environ(environ)
        sys.argv = ["inchworm", *arguments]
        sys.stdin = io.StringIO()
        with redirect_stdout(out), redirect_stderr(err):
            main()
    except SystemExit as ending:
        code = ending.code
    finally:
        os.chdir(before[0])
        _set_environ(before[1])
        sys.argv, sys.stdin = before[2:]
    return Answer(code if isinstance(code, int) else 0, out.getvalue(), err.getvalue())


def _set_environ(environ: Mapping[str, str]) -> None:
    os.environ.clear()
    os.environ.update(environ)


def interrupt(process: Started) -> tuple[int, str]:
    """Press Ctrl-C; the exit code and everything printed."""
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=60)
    return process.wait(), out + err
