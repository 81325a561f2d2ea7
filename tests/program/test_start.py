"""Starting: ``new``, ``demo``, the help, and a notebook at a desk."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import nbclient
import nbformat
import pytest

from tests.driver import COMMAND, Program

_PATIENCE = 240
"""Seconds after which nobody will end the demo any more."""


def _demo(folder: Path) -> str:
    """Work through the demo in a folder, or take it from where somebody does that."""
    done_in = os.environ.get("INCHWORM_TEST_DEMO")
    if done_in is not None:
        patience = time.monotonic() + _PATIENCE
        while not Path(done_in).exists() and time.monotonic() < patience:
            time.sleep(0.2)  # it is there once the demo has ended
        shutil.copytree(done_in, folder, dirs_exist_ok=True)
        return (folder / "demo.txt").read_text()
    done = subprocess.run(
        [*COMMAND, "demo"], cwd=folder, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


def test_the_demo_works_through_its_day(tmp_path: Path) -> None:
    """Every command is printed before its output, and the folder can be used afterwards."""
    printed = _demo(tmp_path)
    typed = [line for line in printed.splitlines() if line.startswith("$ inchworm")]
    assert "$ inchworm promote riverwatch-1.4.0 --to dev --yes" in typed
    for said in (
        "done  P3: riverwatch-1.4.0 in prod (protected)",
        "nothing to do  riverwatch-1.4.0 is in prod",
        "depends on hydro.level_trend",
        "hydro.hourly_level.peak_cm -> hydro.daily_peak.peak_cm -> consumer:county_report",
    ):
        assert said in printed
    river = Program(tmp_path / "riverwatch")
    assert river.findings(code=0) == []
    assert len(river.git("log", "--oneline").splitlines()) > 5
    before = sorted(river.folder.rglob("*"))
    again = Program(tmp_path)("demo", code=2)
    assert "is there already" in again.err
    assert sorted(river.folder.rglob("*")) == before


def test_the_demo_can_stop_after_writing(tmp_path: Path) -> None:
    """Into a folder of another name."""
    Program(tmp_path)("demo", "--into", "sub/rivers", "--files-only")
    river = Program(tmp_path / "sub/rivers")
    assert river.git("status", "--porcelain") == ""
    assert river.query("prod", "SELECT count(*) FROM raw.gauge") == [(24,)]


@pytest.mark.parametrize("dialect", ["duckdb", "sqlite", "postgres", "mysql", "spark"])
def test_a_new_project_can_be_promoted_at_once(
    tmp_path: Path, dialect: str, request: pytest.FixtureRequest
) -> None:
    """Into a database that speaks its dialect, or where none of ours does, into DuckDB."""
    said = Program(tmp_path)("new", "My Levels", "--dialect", dialect).out
    levels = Program(tmp_path / "My Levels")
    assert levels.findings(code=0) == []
    url = {
        "postgres": "postgresql://localhost:5432/my_levels_dev",
        "sqlite": "sqlite:///.inchworm/dev.sqlite",
    }.get(dialect, "duckdb:///.inchworm/dev.duckdb")
    assert f'url = "{url}"' in (levels.folder / "environments/dev.toml").read_text()
    assert ("createdb my_levels_dev" in said) is (dialect == "postgres")
    if dialect == "postgres":
        url, declared = str(request.getfixturevalue("postgres_url")), url
        levels.edit("environments/dev.toml", declared, url)
    name = levels.pack()
    assert name.startswith("my_levels-0.1.0-snapshot.")
    assert levels.promote(name, "dev").json["state"] == "done"
    rows = levels.ask(url, "SELECT total FROM report.daily_total ORDER BY day")
    assert rows == [(8,), (4,)]


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (("new", "."), "has environments already"),
        (("new", "x", "--dialect", "duckbd"), "Did you mean duckdb?"),
        (("new", "x", "--name", "No Name"), "lower-case letters"),
        (("promot",), "Did you mean promote?"),
        (("promote", "b"), "Say where: --to ENV."),
        (("promote", "P2", "--back"), "P2 is drafted as it is"),
    ],
    ids=["has a project", "dialect", "name", "command", "no environment", "of a draft"],
)
def test_what_is_asked_wrongly(starter: Program, arguments: tuple[str, ...], says: str) -> None:
    """Exit code 2, one message, and nothing is written."""
    files = [path for path in sorted(starter.folder.rglob("*")) if path.is_file()]
    assert says in starter(*arguments, code=2).text
    assert [path for path in sorted(starter.folder.rglob("*")) if path.is_file()] == files


def test_a_project_begins_in_a_repository_that_is_there(tmp_path: Path) -> None:
    """What is there stays; what git ignores gets the lines that a project needs."""
    (tmp_path / "scripts").mkdir()
    (tmp_path / "scripts/load.py").write_text("print(1)\n")
    (tmp_path / ".gitignore").write_text("*.pyc\n.secrets/\n")
    program = Program(tmp_path)
    program.git("init", "--quiet")
    program("new", ".", "--name", "levels")
    assert (tmp_path / ".gitignore").read_text() == "*.pyc\n.secrets/\n.inchworm/\n"
    assert (tmp_path / "scripts/load.py").read_text() == "print(1)\n"
    assert program.promote(program.pack(), "dev").json["state"] == "done"


def test_schemas_can_have_other_names_in_an_environment(starter: Program) -> None:
    """Scripts, models, checks and what is live follow the pattern."""
    starter.edit(
        "environments/dev.toml",
        "[databases.main]",
        '[databases.main]\nschema_pattern = "dev_{schema}"',
    )
    name = starter.pack()
    assert starter.promote(name, "dev").json["state"] == "done"
    rows = starter.query("dev", "SELECT count(*) FROM dev_report.daily_total")
    assert rows == [(2,)]
    assert starter.promote(name, "dev").json["state"] == "nothing to do"
    assert starter("status", "--json").json["environments"][0]["drifted"] == 0


def test_the_help_shows_just_the_commands_there_are(tmp_path: Path) -> None:
    """In the order of work, and each has a help of its own."""
    text = Program(tmp_path)("--help").out
    sections = [line.rstrip(":") for line in text.splitlines() if line.endswith(":")]
    assert sections == [
        "Options",
        *("Write", "Check", "Pack", "Promote", "Run", "Watch", "Mend", "Try"),
    ]
    for name in ("new", "check", "trace", "pack", "promote", "run", "status", "history"):
        assert f"  {name} " in text
        assert "Usage" in Program(tmp_path)(name, "--help").out


def test_what_a_run_puts_in_place_of_its_surroundings_stays() -> None:
    """A desk's are made when they are asked for, and only if there are none."""
    code = (
        "import inchworm.notebook as notebook, sys\n"
        "assert 'inchworm.desk' not in sys.modules\n"
        "notebook.env = 'of a run'\n"
        "from inchworm.notebook import Surroundings, env\n"
        "assert (Surroundings.__module__, env) == ('inchworm.desk', 'of a run')\n"
        "assert not hasattr(notebook, 'nothing')\n"
    )
    subprocess.run([sys.executable, "-c", code], check=True, timeout=60)


@pytest.mark.long
def test_a_notebook_runs_unedited_at_a_desk(
    released: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It reads its environment's tables and values, and stores and measures something."""
    monkeypatch.setenv("INCHWORM_TRUST", str(released.folder))
    notebook = nbformat.read(released.folder / "notebooks/level_forecast.ipynb", 4)
    notebook.cells.append(nbformat.v4.new_code_cell("print(env.measures['rmse_cm'] > 0)"))
    path = {"path": str(released.folder)}
    for _ in range(2):
        nbclient.NotebookClient(notebook, timeout=120, resources={"metadata": path}).execute()
        assert notebook.cells[-1].outputs[0]["text"] == "True\n"
    stored = released.query(
        "dev", "SELECT count(*), count(DISTINCT gauge_id) FROM hydro.level_forecast"
    )
    assert stored == [(24 * 12, 24)]


def test_a_notebooks_helper_explains_what_is_wrong(released: Program) -> None:
    """Parameters and SQL alike; the environment is chosen from outside."""
    code = (
        "from inchworm.notebook import env\n"
        "print(env.value('forecast_hours'))\n"
        "print(len(env.query('SELECT * FROM hydro.gauge WHERE gauge_id < :trend_hours')))\n"
        "for wrong in (lambda: env.value('forcast_hours'), lambda: env.query('SELECT :x')):\n"
        "    try: wrong()\n"
        "    except Exception as error: print(error)\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", code],
        cwd=released.folder,
        env={**released.environ, "INCHWORM_ENV": "TEST"},
        capture_output=True,
        text=True,
        check=True,
    )
    assert done.stdout.splitlines() == [
        "48",
        "2",
        "There is no parameter forcast_hours. Did you mean forecast_hours?",
        "there is no parameter x. Declare it in parameters.toml.",
    ]


def test_models_in_capitals_are_built_in_order(starter: Program) -> None:
    """One reads the other while both are still beside."""
    starter.write("models/REPORT/Best.sql", "SELECT max(total) AS best FROM Report.Daily_Total")
    assert starter.promote(starter.pack(), "dev").json["state"] == "done"
    assert starter.query("dev", "SELECT best FROM report.best") == [(8,)]
