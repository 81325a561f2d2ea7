"""A team at work: two checkouts, one ledger, three environments, and everything that they run."""

from __future__ import annotations

import datetime as dt
import random
import shutil
import signal
from collections import defaultdict
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import nbformat

from inchworm.cli import process
from tests.driver import Answer, Program
from tests.forked import Started
from tests.storm.board import Board
from tests.storm.truth import Change, Model, Place, Release, Tables, Witness, Wrong

ROUTE = ("dev", "test", "prod", "late")
"""The environments by their first names; the last one comes late, or never."""
PEOPLE = ("lena", "mira")
API = """
openapi: 3.0.3
info: {title: Rows, version: 1.0.0}
paths:
  /rows:
    post:
      operationId: postRow
      requestBody:
        content: {application/json: {schema: {type: object, required: [id], properties: {
          id: {type: integer}, grp: {type: string}, val: {type: integer}}}}}
      responses: {"201": {description: Taken.}}
"""
FIELDS = '[fields]\nid = "id"\ngrp = "grp"\nval = "val"\n'
FILES = {
    "connections/loggers.toml": 'kind = "files"\nurl = "${loggers_url}"\n',
    "connections/board.toml": 'kind = "http"\nurl = "${board_url}"\ntimeout = "5s"\n',
    "apis/rows.yaml": API,
    "flows/loggers.toml": 'direction = "copy"\n[from]\nconnection = "loggers"\nfiles = "*.csv"\n'
    f'[to]\ntable = "src.s1"\n{FIELDS}',
    "flows/board.toml": 'direction = "out"\n[from]\ntable = "src.s1"\n[to]\n'
    f'connection = "board"\napi = "apis/rows.yaml"\noperation = "postRow"\n{FIELDS}',
}
SHIFTED = """
import datetime as dt, sys
from inchworm.cli import process
from inchworm.cli.main import main
real = process.clock
process.clock = lambda: real() + dt.timedelta(days={days})
sys.argv = {words}
main()
"""
"""A command in a process of its own whose clock is ahead."""
STUDY = (
    "from inchworm.notebook import env\n"
    'env.store("m.study", env.query("SELECT id, grp, val * {factor} AS val FROM src.s2"), '
    'columns={{"id": "INTEGER", "grp": "TEXT", "val": "INTEGER"}})'
)


class Team:
    """The project as it is written, what was packed of it, and where it went.

    Args:
        folder: an empty folder.
        urls: the addresses of empty databases, in the order of the route.
        board: what takes the rows that flows send.
    """

    def __init__(self, folder: Path, urls: tuple[str, ...], board: Board) -> None:
        self.folder = folder
        self.board = board
        self.models: dict[str, Model] = {}
        self.changes: list[Change] = []
        self.adopted: dict[int, str] = {}
        self.files: list[str] = []
        """The file of each change."""
        self.wanted: dict[str, list[str]] = {}
        """The columns of each table of a wanted structure."""
        self.migrates = True
        """False once the schema ``src`` is managed by its wanted structure."""
        self.numbers = 9
        self.version = 0
        self.days = 0
        self.packed: list[Release] = []
        self.backups: dict[str, Place] = {}
        self.ledger = "ledger"
        self.entered_by: defaultdict[str, set[str]] = defaultdict(set)
        """The environments into which promotions of each ledger went."""
        self.log: list[str] = []
        self.route = [*ROUTE[:3]]
        self.places = {n: Place(n, url, n) for n, url in zip(ROUTE, urls, strict=True)}
        self.checkouts = [Program(folder / "a" / "river"), Program(folder / "b" / "river")]
        self._found(self.checkouts[0])

    def _found(self, first: Program) -> None:
        first.folder.mkdir(parents=True)
        first.write("inchworm.toml", "")
        self.use_ledger(self.ledger)
        first.write("schemas/src/schema.toml", 'managed = "migrations"\n')
        first.write("schemas/kept/schema.toml", 'managed = "structure"\n')
        for path, text in FILES.items():
            first.write(path, text)
        self.study(1)
        self.write_environments()
        first.write(".gitignore", ".inchworm/\n")
        for name in ("src.s1", "src.s2"):
            self.change(Change("make", name))
        self.want("kept.k1", ["id", "grp", "val"])
        first.git("init", "--quiet")
        self.commit()
        shutil.copytree(first.folder, self.checkouts[1].folder)

    # ---- writing ------------------------------------------------------------------------------

    def write(self, path: str, text: str | None) -> None:
        """Write a file in every checkout, or remove it."""
        for program in self.checkouts:
            if text is None:
                (program.folder / path).unlink(missing_ok=True)
            elif (program.folder / "inchworm.toml").exists():
                program.write(path, text)

    def use_ledger(self, name: str) -> None:
        """Promote with a ledger from now on; that of somebody else, perhaps."""
        self.ledger = name
        self.write(
            "inchworm.toml",
            'name = "river"\nversion = "0.0.1"\ndialect = "duckdb"\n[storage]\n'
            f'ledger = "{self.folder}/{name}.sqlite"\nbundles = "{self.folder}/bundles"\n',
        )

    def write_environments(self) -> None:
        """Write the environments, and the parameters that each has a value for."""
        lines = ['[as_of]\ntype = "date"\nevery = "today"']
        before = ""
        for key in self.route:
            place = self.places[key]
            after = f'after = ["{before}"]\n' if before else ""
            formerly = f'formerly = "{place.formerly}"\n' if place.formerly else ""
            listed = ", ".join(f'"{name}"' for name in sorted(place.may_lose))
            lose = f"may_lose = [{listed}]\n" if listed else ""
            entry = '[entry]\napprovals = 1\nexception = ["mira"]\n' if key == "prod" else ""
            self.write(
                f"environments/{place.name}.toml",
                f'{after}{formerly}snapshots = true\n[databases.main]\nurl = "{place.url}"\n'
                f'{lose}[workspace]\nurl = "sim:{key}"\n[gateway]\nurl = "sim:{key}"\n{entry}',
            )
            before = place.name
        for name, first in (
            ("loggers_url", f"{self.folder}/incoming"),
            ("board_url", self.board.url),
        ):
            lines.append(f'[{name}]\ntype = "text"')
            lines += [f'{self.places[key].name} = "{first}/{key}"' for key in self.route]
        self.write("parameters.toml", "\n".join(lines) + "\n")

    def incoming(self, place: Place) -> Path:
        """The folder from which an environment takes files."""
        folder = self.folder / "incoming" / place.key
        folder.mkdir(parents=True, exist_ok=True)
        return folder

    def change(self, change: Change) -> None:
        """Write a migration."""
        name = f"{len(self.changes) + 1:04}_{change.what}"
        self.changes.append(change)
        self.files.append(name)
        self.write(f"schemas/src/migrations/{name}.sql", f"{change.sql};\n")
        if change.undo:
            self.write(f"schemas/src/migrations/{name}.undo.sql", f"{change.undo};\n")

    def want(self, table: str, columns: list[str] | None) -> None:
        """Write the wanted structure of a table, or that it is not wanted any more."""
        if columns is None:
            del self.wanted[table]
        else:
            self.wanted[table] = columns
        schema = table.partition(".")[0]
        text = "".join(
            f"CREATE TABLE {name} ({', '.join(_column(each) for each in its)});\n"
            for name, its in sorted(self.wanted.items())
            if name.startswith(f"{schema}.")
        )
        self.write(f"schemas/{schema}/tables.sql", text)

    def take_over(self) -> None:
        """Let the schema ``src`` be managed by the structure that its migrations lead to."""
        self.migrates = False
        tables: Tables = {}
        for change in self.changes:
            change.on(tables)
        for name in self.files:
            self.write(f"schemas/src/migrations/{name}.sql", None)
            self.write(f"schemas/src/migrations/{name}.undo.sql", None)
        self.write("schemas/src/schema.toml", 'managed = "structure"\n')
        for name, table in tables.items():
            self.want(name, list(table.columns))

    def put(self, model: Model) -> None:
        """Write a model."""
        self.models[model.name] = model
        self.write(f"models/{model.name.replace('.', '/')}.sql", model.file)
        self._pipeline()

    def study(self, factor: int) -> None:
        """Write the notebook."""
        self.factor = factor
        cell = nbformat.v4.new_code_cell(STUDY.format(factor=factor), id="study")
        notebook = nbformat.v4.new_notebook(cells=[cell])
        self.write("notebooks/study.ipynb", nbformat.writes(notebook))

    def remove(self, name: str) -> None:
        """Remove a model."""
        del self.models[name]
        self.write(f"models/{name.replace('.', '/')}.sql", None)
        self._pipeline()

    def _pipeline(self) -> None:
        built = sorted(self.models)
        names = ", ".join(f'"{name}"' for name in built)
        text = f'[[steps]]\nname = "all"\nbuild = [{names}]\n' if built else None
        self.write("pipelines/nightly.toml", text)

    def commit(self) -> None:
        """Commit in the first checkout, as its person."""
        first = self.checkouts[0]
        first.git("add", "--all")
        author = f"{PEOPLE[0]} <{PEOPLE[0]}@river.example>"
        first.git("commit", "--quiet", "--allow-empty", "--message", "work", "--author", author)

    # ---- running ------------------------------------------------------------------------------

    def __call__(
        self,
        *words: str,
        who: int = 0,
        at: int | None = None,
        code: int | None = None,
        is_judge: bool = False,
    ) -> Answer:
        """Run a command as a person, in the checkout of their own unless another is given."""
        if not is_judge:
            self.log.append(f"{PEOPLE[who]}$ inchworm {' '.join(words)}")
        with self._clock():
            checkout = self.checkouts[who if at is None else at]
            answer = checkout(*words, code=None, environ={"INCHWORM_USER": PEOPLE[who]})
        if answer.code and not is_judge:
            self.log.append(f"  -> {answer.code} {_reasons(answer)}")
        if code is not None and answer.code != code:
            raise Wrong(f"{words} ended with {answer.code}, not {code}:\n{answer.text[:3000]}")
        if answer.code == 2 and "--exception" not in words and words[0] != "run":
            raise Wrong(f"{words} ended with {answer.code}:\n{answer.text[:3000]}")
        return answer

    @contextmanager
    def _clock(self) -> Iterator[None]:
        real = process.clock
        process.clock = lambda: real() + dt.timedelta(days=self.days)
        try:
            yield
        finally:
            process.clock = real

    @property
    def today(self) -> str:
        """The day by the clock of the team."""
        return (dt.datetime.now(dt.UTC) + dt.timedelta(days=self.days)).date().isoformat()

    def kill(self, *words: str, who: int, after: float) -> bool:
        """Start a command and kill it; whether it was still at work."""
        self.log.append(f"{PEOPLE[who]}$ inchworm {' '.join(words)}   # killed after {after:.2f} s")
        code = SHIFTED.format(days=self.days, words=["inchworm", *words])
        environ = self.checkouts[who].environ | {"INCHWORM_USER": PEOPLE[who]}
        process_ = Started(self.checkouts[who].folder, environ, code)
        try:
            process_.wait(after)
        except TimeoutError:
            with suppress(ProcessLookupError):  # it ended this moment
                process_.send_signal(signal.SIGKILL)
            process_.communicate()
            return True
        return False

    def pack(self) -> Release:
        """Commit and pack the project as it is."""
        self.commit()
        bundle = self("pack", "--json", code=0).json["bundle"]
        wanted = {table: tuple(columns) for table, columns in self.wanted.items()}
        models, changes, adopted = dict(self.models), tuple(self.changes), dict(self.adopted)
        release = Release(bundle, models, changes, adopted, wanted, self.migrates, self.factor)
        self.packed = [each for each in self.packed if each.name != bundle] + [release]
        return release

    def by_hand(self, place: Place, sql: str) -> bool:
        """Run a statement by hand; whether the database took it."""
        with Witness(place.url) as witness:
            try:
                witness.run(sql)
            except Exception as error:  # three drivers, each with errors of its own
                self.log.append(f"{place.name}> {sql}  -- refused: {str(error)[:80]}")
                return False
        self.log.append(f"{place.name}> {sql}")
        return True

    def has_ledger_of(self, place: str) -> bool:
        """Whether the present ledger has a promotion into an environment."""
        return place in self.entered_by[self.ledger]

    def number(self) -> int:
        """A number that nothing else has."""
        self.numbers += 1
        return self.numbers

    def place(self, chance: random.Random) -> Place:
        """One of the environments, the first more often."""
        number = chance.choice((0, 0, 0, 1, 1, 2, 3))
        return self.places[self.route[min(number, len(self.route) - 1)]]

    def before(self, place: Place) -> Place | None:
        """The environment from which bundles come into one; None for the first."""
        number = self.route.index(place.key)
        return self.places[self.route[number - 1]] if number else None


def _column(name: str) -> str:
    kind = {"id": "INTEGER NOT NULL", "grp": "TEXT"}.get(name, "INTEGER")
    return f"{name} {kind}"


def _reasons(answer: Answer) -> str:
    """Why something was refused: its errors, with what to do."""
    document = said(answer)
    findings = document.get("findings", []) if isinstance(document, dict) else []
    errors = [f"{f['message']}: {f['remedy']}" for f in findings if f["severity"] == "error"]
    return "; ".join(errors) or answer.text[:300]


def said(answer: Answer) -> Any:
    """The last document of an answer."""
    lines = answer.out.strip() or answer.err.strip()
    try:
        return answer.json
    except ValueError:
        return {"text": lines}
