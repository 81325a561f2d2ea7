"""A team at work: two checkouts, one ledger, three environments, and everything that they run."""

from __future__ import annotations

import datetime as dt
import random
import shutil
import signal
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from inchworm.cli import process
from tests.driver import Answer, Program
from tests.storm.truth import Change, Model, Place, Release, Witness, Wrong

ROUTE = ("dev", "test", "prod")
PEOPLE = ("lena", "mira")


class Team:
    """The project as it is written, what was packed of it, and where it went.

    Args:
        folder: an empty folder.
        urls: the addresses of three empty databases, in the order of the route.
    """

    def __init__(self, folder: Path, urls: tuple[str, ...]) -> None:
        self.folder = folder
        self.models: dict[str, Model] = {}
        self.changes: list[Change] = []
        self.adopted: dict[int, str] = {}
        self.files: list[str] = []
        """The file of each change."""
        self.numbers = 9
        self.version = 0
        self.days = 0
        self.packed: list[Release] = []
        self.backups: dict[str, Place] = {}
        self.entered_ledger: set[str] = set()
        """The environments into which the present ledger has promoted."""
        self.log: list[str] = []
        self.places = {n: Place(n, url) for n, url in zip(ROUTE, urls, strict=True)}
        self.checkouts = [Program(folder / "a" / "river"), Program(folder / "b" / "river")]
        self._found(self.checkouts[0])

    def _found(self, first: Program) -> None:
        first.folder.mkdir(parents=True)
        first.write(
            "inchworm.toml",
            'name = "river"\nversion = "0.0.1"\ndialect = "duckdb"\n[storage]\n'
            f'ledger = "{self.folder}/ledger.sqlite"\nbundles = "{self.folder}/bundles"\n',
        )
        first.write("schemas/src/schema.toml", 'managed = "migrations"\n')
        first.write("parameters.toml", '[as_of]\ntype = "date"\nevery = "today"\n')
        for number, place in enumerate(self.places.values()):
            after = f'after = ["{ROUTE[number - 1]}"]\n' if number else ""
            entry = "[entry]\napprovals = 1\n" if place.name == "prod" else ""
            first.write(
                f"environments/{place.name}.toml",
                f'{after}snapshots = true\n[databases.main]\nurl = "{place.url}"\n[workspace]\n'
                f'url = "sim:{place.name}"\n[gateway]\nurl = "sim:{place.name}"\n{entry}',
            )
        first.write(".gitignore", ".inchworm/\n")
        for name in ("s1", "s2"):
            self.change(Change("make", name))
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

    def change(self, change: Change) -> None:
        """Write a migration."""
        name = f"{len(self.changes) + 1:04}_{change.what}"
        self.changes.append(change)
        self.files.append(name)
        self.write(f"schemas/src/migrations/{name}.sql", f"{change.sql};\n")
        if change.undo:
            self.write(f"schemas/src/migrations/{name}.undo.sql", f"{change.undo};\n")

    def put(self, model: Model) -> None:
        """Write a model."""
        self.models[model.name] = model
        self.write(f"models/{model.name.replace('.', '/')}.sql", model.file)
        self._pipeline()

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
            self.log.append(f"  -> {answer.code} {answer.text[:300]}")
        if code is not None and answer.code != code:
            raise Wrong(f"{words} ended with {answer.code}, not {code}:\n{answer.text[:3000]}")
        if answer.code not in (0, 1, 3, 4, 5) and words[0] != "run":
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
        process_ = self.checkouts[who].start(*words, environ={"INCHWORM_USER": PEOPLE[who]})
        try:
            process_.wait(after)
        except TimeoutError:
            process_.send_signal(signal.SIGKILL)
            process_.communicate()
            return True
        return False

    def pack(self) -> Release:
        """Commit and pack the project as it is."""
        self.commit()
        bundle = self("pack", "--json", code=0).json["bundle"]
        release = Release(bundle, dict(self.models), tuple(self.changes), dict(self.adopted))
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
        return place in self.entered_ledger

    def number(self) -> int:
        """A number that nothing else has."""
        self.numbers += 1
        return self.numbers

    def place(self, chance: random.Random) -> Place:
        """One of the environments, the first more often."""
        return self.places[chance.choice(("dev", "dev", "dev", "test", "test", "prod"))]


def said(answer: Answer) -> Any:
    """The last document of an answer."""
    lines = answer.out.strip() or answer.err.strip()
    try:
        return answer.json
    except ValueError:
        return {"text": lines}
