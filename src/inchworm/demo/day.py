"""A day's work with Riverwatch: the repository is written, then the commands are typed."""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

from msgspec import Struct

from inchworm.core.errors import InchwormError, UsageError
from inchworm.demo.data import generate, write_database

SOURCE = Path(__file__).parent / "riverwatch"
USER = "Lena Marsh"

_COMMITS: Sequence[tuple[str, Sequence[str]]] = (
    (
        "Know the gauges and readings that arrive from outside",
        ("inchworm.toml", "README.md", ".gitignore", "environments", "schemas/raw"),
    ),
    ("Keep thresholds and subscribers", ("schemas/ops",)),
    (
        "Clean readings, hourly levels and daily peaks",
        ("models/hydro", "checks", "parameters.toml"),
    ),
    ("Forecast levels", ("notebooks", "library")),
    (
        "Decide the flood state and publish warnings",
        ("models/alert", "connections", "flows", "apis"),
    ),
    ("Run it every night, and say who reads us", ("pipelines", "consumers")),
)

Say = Callable[[str], None]


def write_scenario(folder: Path, say: Say) -> None:
    """Write the project as a git repository, with its databases beside it.

    The scenario appears under its name complete or not at all.

    Raises:
        UsageError: when the folder is there already.
        InchwormError: when git is missing.
    """
    if folder.exists():
        raise UsageError(
            f"{folder} is there already.",
            next="Remove it, or name another: inchworm demo --into DIR.",
        )
    folder.parent.mkdir(parents=True, exist_ok=True)
    partial = Path(tempfile.mkdtemp(prefix=f".{folder.name}.", dir=folder.resolve().parent))
    try:
        _write_files(partial)
        _write_history(partial)
        catchment = generate()
        first = partial / "data" / "river_dev.duckdb"
        write_database(first, catchment)
        for environment in ("test", "prod"):
            shutil.copyfile(first, first.with_name(f"river_{environment}.duckdb"))
        partial.chmod(0o755)
        partial.rename(folder)
    except BaseException:
        shutil.rmtree(partial, ignore_errors=True)
        raise
    gauges, readings = len(catchment.gauges), len(catchment.readings)
    say(f"{folder}: a git repository with {len(_COMMITS)} commits, the last one tagged v1.4.0.")
    say(f"{folder}/data: a database per environment, {gauges} gauges and {readings:,} readings.")


def _write_files(folder: Path) -> None:
    ignore = shutil.ignore_patterns("__pycache__")
    shutil.copytree(SOURCE, folder, dirs_exist_ok=True, ignore=ignore)
    (folder / "gitignore").rename(folder / ".gitignore")
    secrets = folder / ".secrets"
    secrets.mkdir(mode=0o700)
    for environment in ("dev", "test", "prod"):
        file = secrets / f"notice_token.{environment}"
        file.touch(mode=0o600)
        file.write_text(f"made-up-token-of-{environment}\n")


def _write_history(folder: Path) -> None:
    _git(folder, "init", "--quiet", "--initial-branch=main")
    _git(folder, "config", "user.name", USER)
    _git(folder, "config", "user.email", "lena@brackwater.example")
    _git(folder, "config", "commit.gpgsign", "false")
    for day, (message, paths) in enumerate(_COMMITS, start=9):
        _git(folder, "add", *paths)
        _commit(folder, message, f"2026-11-{day:02d}T09:30:00+00:00")
    _git(folder, "tag", "v1.4.0")


def _commit(folder: Path, message: str, at: str) -> None:
    dates = {"GIT_AUTHOR_DATE": at, "GIT_COMMITTER_DATE": at}
    _git(folder, "commit", "--quiet", "-m", message, environ=dates)


def _git(folder: Path, *arguments: str, environ: Mapping[str, str] | None = None) -> None:
    try:
        subprocess.run(
            ["git", *arguments],
            cwd=folder,
            env={**os.environ, **(environ or {})},
            check=True,
            capture_output=True,
            text=True,
        )
    except FileNotFoundError as error:
        raise InchwormError("git is not installed.", next="Install git.") from error
    except subprocess.CalledProcessError as error:
        raise InchwormError(f"git {arguments[0]} failed: {error.stderr.strip()}") from error


class _Day(Struct, frozen=True):
    """The scenario's folder, and how to speak and to type."""

    folder: Path
    say: Say

    def talk(self, text: str) -> None:
        """A paragraph before a command."""
        self.say("")
        self.say(f"# {text}")

    def type(self, command: str, *, exit_code: int = 0) -> None:
        """Type a command: print it, then run it.

        Raises:
            InchwormError: when it ends otherwise than expected.
        """
        self.say("")
        self.say(f"$ {command}")
        program, *arguments = shlex.split(command)
        programs = {"inchworm": [sys.executable, "-m", "inchworm"], "python": [sys.executable]}
        line = programs.get(program, [program])
        environ = {**os.environ, "INCHWORM_USER": USER}
        done = subprocess.run([*line, *arguments], cwd=self.folder, env=environ, check=False)
        if done.returncode != exit_code:
            raise InchwormError(
                f"{command} ended with {done.returncode}, not with {exit_code}.",
                next=f"Look into {self.folder}.",
            )

    @contextmanager
    def editing(self, path: str) -> Iterator[list[tuple[str, str]]]:
        """Collect replacements for a file, and make them, shown as a reader would type them."""
        changes: list[tuple[str, str]] = []
        yield changes
        file = self.folder / path
        text = file.read_text()
        self.say("")
        self.say(f"  in {path}:")
        for old, new in changes:
            text = text.replace(old, new)
            for sign, lines in (("-", old), ("+", new)):
                for line in lines.splitlines():
                    self.say(f"  {sign} {line.strip()}")
        file.write_text(text)

    def write(self, path: str, text: str) -> None:
        """Write a file, or more behind what a file has, shown as a reader would type it."""
        file = self.folder / path
        self.say("")
        self.say(f"  in {path}:")
        for line in text.splitlines():
            self.say(f"  + {line}".rstrip())
        with file.open("a") as end:
            end.write(text)

    def commit(self, message: str, at: str, tag: str | None = None) -> None:
        """Commit everything, as the reader could."""
        self.say("")
        self.say(f'$ git commit --all --message "{message}"')
        _git(self.folder, "add", "--all")
        _commit(self.folder, message, at)
        if tag:
            self.say(f"$ git tag {tag}")
            _git(self.folder, "tag", tag)


def work_through(folder: Path, say: Say) -> None:
    """The practitioner's day, each command printed before its output.

    Raises:
        InchwormError: when a command does not end as it should.
    """
    day = _Day(folder, say)
    _first_release(day)
    _small_change(day)
    _night(day)
    _reviewed_and_undone(day)
    _changed_by_hand(day)
    _mails(day)
    _refused_change(day)


def _first_release(day: _Day) -> None:
    day.talk("Does everything fit together? What would a change of a column affect?")
    day.type("inchworm check")
    day.type("inchworm trace alert.flood_state.peak_cm --down")
    day.talk("Pack the tagged commit once; the same bundle goes everywhere.")
    day.type("inchworm pack")
    day.type("inchworm bundles")
    day.talk("Development first: it is empty, so everything is new.")
    day.type("inchworm promote riverwatch-1.4.0 --to dev --yes")
    day.talk("Production takes only what has passed through test.")
    day.type("inchworm promote riverwatch-1.4.0 --to prod --yes", exit_code=3)
    day.talk(
        "Test, with its own values; then production: first the draft, then exactly that draft."
    )
    day.type("inchworm promote riverwatch-1.4.0 --to test --yes")
    day.type("inchworm promote riverwatch-1.4.0 --to prod --draft")
    day.type("inchworm promote P3 --yes")
    day.talk("What is where? And a second promotion finds nothing to do.")
    day.type("inchworm status")
    day.type("inchworm promote riverwatch-1.4.0 --to prod --yes")


def _small_change(day: _Day) -> None:
    day.talk(
        "A change of one model: rises to the millimetre. The version goes up, the commit is tagged."
    )
    with day.editing("models/hydro/level_trend.sql") as changes:
        old = "mean_cm - lag(mean_cm, :trend_hours) OVER by_hour AS rise_cm"
        changes.append(
            (old, "round(mean_cm - lag(mean_cm, :trend_hours) OVER by_hour, 1) AS rise_cm")
        )
    with day.editing("inchworm.toml") as changes:
        changes.append(('version = "1.4.0"', 'version = "1.4.1"'))
    day.commit("Give rises to the millimetre", "2026-11-20T10:00:00+00:00", tag="v1.4.1")
    day.type("inchworm pack")
    day.talk("Only that model and what depends on it is built again; readings stay as they are.")
    day.type("inchworm promote riverwatch-1.4.1 --to dev --yes")
    day.talk("In test the nightly pipeline is on: it pauses while what it works on changes.")
    day.type("inchworm promote riverwatch-1.4.1 --to test --yes")


def _night(day: _Day) -> None:
    day.talk("What is live runs: the nightly pipeline in test, its forecast and its warnings.")
    day.type("inchworm run nightly --in test")
    day.talk("How good is the forecast there, compared with development?")
    day.type("inchworm run level_forecast --in dev")
    day.type("inchworm status --measures")
    day.talk("What was published? Nothing is sent twice; what would be sent can be looked at.")
    day.type('inchworm rows alert.public_board --in test --where "level_cm > 300"')
    day.type("inchworm run publish_warnings --in test")
    day.type("inchworm sim received board_test")
    day.talk("The same in production, with the values of production.")
    day.type("inchworm run nightly --in prod --yes")
    day.talk("When does what run next, and how did the last runs end?")
    day.type("inchworm status --schedules")
    day.type("inchworm history --runs")


def _reviewed_and_undone(day: _Day) -> None:
    day.talk("Into production: drafted, looked at by somebody else, and carried out just so.")
    day.type("inchworm promote riverwatch-1.4.1 --to prod --draft")
    day.type("inchworm review P6 --html .inchworm/review.html")
    day.type('inchworm approve P6 --because "the rises are right"')
    day.type("inchworm promote P6 --yes")
    day.talk("The duty desk wants the old rises back: what was replaced is switched back.")
    day.type('inchworm rollback prod --because "rises are read to the centimetre" --yes')
    day.talk("How does production differ from test now?")
    day.type("inchworm compare test prod")


def _changed_by_hand(day: _Day) -> None:
    day.talk("Somebody gave the subscribers of test a language, by hand.")
    statement = "ALTER TABLE ops.subscriber ADD COLUMN language VARCHAR"
    connected = "duckdb.connect('data/river_test.duckdb')"
    day.type(f"python -c \"import duckdb; {connected}.execute('{statement}')\"")
    day.type("inchworm drift test", exit_code=1)
    day.talk("It was a good idea: it becomes a migration, and goes the way of all others.")
    day.type("inchworm adopt test schema:ops")
    day.type("git status --short")


_MAIL = """\
about = "Mails of the duty desk"
owner = "duty desk"
kind = "mail"
url = "${mail_server}"
sender = "Riverwatch <river@brackwater.example>"
"""

_WARN = """\
about = "Write to the duty desk about each gauge that is not normal, once per state"
owner = "duty desk"
direction = "out"
once_per = ["gauge_id", "state"]

[from]
table = "alert.current_warning"

[to]
connection = "duty_mail"
address = "${duty_address}"
subject = "{gauge}: {state}"
text = "The level at {gauge} ({river}) is {level} cm."

[fields]
gauge = "gauge_name"
state = "state"
river = "river"
level = "CAST(round(peak_cm) AS INTEGER)"
gauge_id = "gauge_id"
"""

_MAIL_VALUES = """\

[mail_server]
type = "text"
about = "Where mails go: into a folder, but for production"
must_differ = true
dev = "maildir:.inchworm/mail_dev"
test = "maildir:.inchworm/mail_test"
prod = "smtps://mail.brackwater.example"

[duty_address]
type = "text"
about = "Who is on duty"
every = "duty@brackwater.example"
"""


def _mails(day: _Day) -> None:
    day.talk("The duty desk wants mails. In development and test they are laid into a folder.")
    day.write("connections/duty_mail.toml", _MAIL)
    day.write("flows/warn_duty_desk.toml", _WARN)
    day.write("parameters.toml", _MAIL_VALUES)
    with day.editing("inchworm.toml") as changes:
        changes.append(('version = "1.4.1"', 'version = "1.4.2"'))
    day.commit("Write to the duty desk", "2026-11-23T10:00:00+00:00", tag="v1.4.2")
    day.type("inchworm pack")
    day.type("inchworm promote riverwatch-1.4.2 --to dev --yes")
    day.talk("The gateway of test refuses the flow: the promotion says so, and can go on.")
    because = "The gateway is being repaired."
    day.type(f'inchworm sim refuse test warn_duty_desk --because "{because}"')
    day.type("inchworm promote riverwatch-1.4.2 --to test --yes", exit_code=5)
    day.type("inchworm sim refuse test warn_duty_desk --no-more")
    day.type("inchworm promote P9 --yes")
    day.type("inchworm run warn_duty_desk --in test")
    first = "print(next(iter(mailbox.Maildir('.inchworm/mail_test'))))"
    day.type(f'python -c "import mailbox; {first}"')


def _refused_change(day: _Day) -> None:
    day.talk("Somebody drops a column that a flow and two consumers still need.")
    with day.editing("models/hydro/hourly_level.sql") as changes:
        changes.append(("  max(level_cm) AS peak_cm,\n", ""))
        changes.append(
            (
                '[columns.peak_cm]\nabout = "Highest level in the hour"\nunit = "cm"\n'
                "required = true\nbetween = [-100, 2000]\n",
                "",
            )
        )
    day.type("inchworm check", exit_code=1)
    day.talk("It cannot be packed, so it cannot be promoted. Put it back.")
    day.type("git checkout --quiet models/hydro/hourly_level.sql")
    day.talk("Everything that happened, and what is where now.")
    day.type("inchworm history")
    day.type("inchworm status")
