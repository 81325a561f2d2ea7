"""Notebooks at a real Jupyter Server: put there, changed there by hand, and run there."""

from __future__ import annotations

import json
import shutil
import signal
import time
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from inchworm.targets.http_services import connect_service
from tests.driver import Program
from tests.jupyter import BARE, TOKEN, Jupyter, server
from tests.once import SQLITE
from tests.program.test_run_notebooks import (
    SECRET,
    STORE,
    kept,
    notebook,
    project,
)

ENVIRON = {"DOOR": SECRET, "JUPYTER": TOKEN}
FOLDER = "starter/dev"


@pytest.fixture(scope="module")
def running(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Jupyter]:
    with server(tmp_path_factory.mktemp("jupyter") / "shown") as started:
        yield started


@pytest.fixture
def jupyter(running: Jupyter) -> Iterator[Jupyter]:
    yield running
    assert running.ask("GET", "/api/kernels") == [], "no kernel is left at work"
    shutil.rmtree(running.folder / "starter", ignore_errors=True)


def at(program: Program, jupyter: Jupyter, *more: str) -> Program:
    """The project with its notebooks at the server."""
    project(program)
    matrix = (program.folder / "parameters.toml").read_text()
    program.write(
        "parameters.toml", f'{matrix}\n[jupyter]\ntype = "secret"\nevery = "env:JUPYTER"\n'
    )
    settings = (program.folder / "environments/dev.toml").read_text()
    lines = (f'url = "jupyter+{jupyter.url}"', 'token = "${jupyter}"', *more)
    program.write("environments/dev.toml", "\n".join([settings, "[notebooks]", *lines, ""]))
    return program


def promote(program: Program, code: int = 0) -> str:
    bundle = program("pack", "--json", environ=ENVIRON).json["bundle"]
    return program("promote", bundle, "--to", "dev", "--yes", environ=ENVIRON, code=code).text


def run(program: Program, name: str, code: int = 0) -> dict[str, Any]:
    """The only step of a run."""
    answer = program("run", name, "--in", "dev", "--json", code=code, environ=ENVIRON)
    (step,) = json.loads(answer.out.splitlines()[-1])["steps"]
    only_step: dict[str, Any] = step
    return only_step


def test_it_is_put_there_and_runs_there(plain: Program, jupyter: Jupyter) -> None:
    program, url = at(plain, jupyter), SQLITE
    where = 'import os, sys\nprint(os.path.basename(os.getcwd()), "DOOR" in os.environ)'
    notebook(program, "store", *STORE, where)
    promote(program)
    there = jupyter.ask("GET", f"/api/contents/{FOLDER}/store.ipynb")["content"]
    assert [cell["source"] for cell in there["cells"]] == [*STORE, where]
    step = run(program, "store")
    assert step["rows"] == 3
    assert step["measures"] == {"seen": 1}
    assert step["log"] == "1 rows seen\nwork False"
    assert program.ask(url, "SELECT * FROM mart.kept ORDER BY gauge") == [(2, 2), (3, None)]
    assert program.ask(url, "SELECT * FROM mart.whole") == [(2, 9)]
    assert kept(program, step["output"]).cells[3].outputs[0].data["text/plain"] == "1"
    assert promote(program).count("nothing to do") == 1
    program.folder.joinpath("notebooks/store.ipynb").unlink()
    promote(program)
    assert list((jupyter.folder / FOLDER).glob("*.ipynb")) == []


def test_what_somebody_changes_there_is_drift(plain: Program, jupyter: Jupyter) -> None:
    program = at(plain, jupyter)
    notebook(program, "store", *STORE)
    promote(program)
    path = f"/api/contents/{FOLDER}/store.ipynb"
    there = jupyter.ask("GET", path)["content"]
    there["cells"][1]["outputs"] = [{"output_type": "stream", "name": "stdout", "text": "tried\n"}]
    jupyter.ask("PUT", path, {"type": "notebook", "format": "json", "content": there})
    program("drift", "dev", environ=ENVIRON)
    there["cells"][1]["source"] += "\nprint('by hand')"
    jupyter.ask("PUT", path, {"type": "notebook", "format": "json", "content": there})
    assert "notebook:store" in program("drift", "dev", environ=ENVIRON, code=1).text
    program("adopt", "dev", "notebook:store", environ=ENVIRON)
    assert "by hand" in (program.folder / "notebooks/store.ipynb").read_text()
    promote(program)
    program("drift", "dev", environ=ENVIRON)


def wait_for_a_kernel(jupyter: Jupyter) -> None:
    """Wait for a session; a list of kernels fails at the server while one is being started."""
    while not jupyter.ask("GET", "/api/sessions"):
        time.sleep(0.1)


WRONG = {
    "fails": (
        "raise ValueError('not with ' + env.value('password'))",
        ["in cell 2, line 1", "ValueError: not with (secret)", "Nothing that it stored went live"],
    ),
    "dies": ("import os, signal\nos.kill(os.getpid(), signal.SIGKILL)", ["its kernel died"]),
    "asks": ("input('who is there?')", ["a run has no input"]),
    "is_slow": ("import time\ntime.sleep(600)", ["took longer than 3 s"]),
}


@pytest.mark.parametrize("name", WRONG)
def test_what_goes_wrong_there_is_said(name: str, plain: Program, jupyter: Jupyter) -> None:
    code, said = WRONG[name]
    program = at(plain, jupyter)
    notebook(program, name, "from inchworm.notebook import env", code)
    program.write(
        "pipelines/it.toml", f'[[steps]]\nname = "it"\nnotebook = "{name}"\ntimeout = "3s"\n'
    )
    promote(program)
    step = run(program, "it" if name == "is_slow" else name, code=1)
    assert step["state"] == "failed"
    for words in said:
        assert words in step["message"], step
    assert SECRET not in json.dumps(step, ensure_ascii=False)


@pytest.mark.long
def test_many_rows_go_both_ways_in_pieces(plain: Program, jupyter: Jupyter) -> None:
    program = at(plain, jupyter)
    cell = (
        "import numpy, pandas as pd\nfrom inchworm.notebook import env\n"
        'many = pd.DataFrame({"n": numpy.random.default_rng(1).random(600_000)})\n'
        'env.store("mart.many", many, columns={"n": "DOUBLE"})\n'
        'print(len(env.table("mart.many")), (env.table("mart.many").n == many.n).all())'
    )
    notebook(program, "many", cell)
    promote(program)
    assert run(program, "many")["log"] == "600000 True"


def test_a_kernel_that_a_killed_run_left_is_ended(plain: Program, jupyter: Jupyter) -> None:
    program = at(plain, jupyter)
    notebook(program, "waits", "import time\ntime.sleep(600)")
    notebook(program, "works", "print('fine')")
    promote(program)
    process = program.start("run", "waits", "--in", "dev", environ=ENVIRON)
    wait_for_a_kernel(jupyter)
    process.send_signal(signal.SIGKILL)
    process.wait()
    assert len(jupyter.ask("GET", "/api/kernels")) == 1
    assert run(program, "works")["log"] == "fine"


def test_a_run_of_another_ledger_with_the_same_id_has_a_kernel_of_its_own(
    plain: Program, jupyter: Jupyter, tmp_path: Path
) -> None:
    program, mark = at(plain, jupyter), tmp_path / "mark"
    code = f"import pathlib, time\npathlib.Path({str(mark)!r}).touch()\ntime.sleep(5)"
    notebook(program, "it", f"seen = 1\n{code}")
    promote(program)
    process = program.start("run", "it", "--in", "dev", environ=ENVIRON)
    while not mark.exists():
        time.sleep(0.1)
    process.send_signal(signal.SIGKILL)
    process.wait()
    shutil.rmtree(program.folder / ".inchworm")
    notebook(program, "it", "print('seen' in globals())")
    promote(program)
    assert run(program, "it")["log"] == "False"


def test_runs_beside_each_other_leave_each_other_their_kernels(
    plain: Program, jupyter: Jupyter, postgres_url: str
) -> None:
    program = at(plain, jupyter)
    program.edit("environments/dev.toml", SQLITE, postgres_url)
    notebook(program, "waits", "import time\ntime.sleep(600)")
    notebook(program, "works", "print('fine')")
    promote(program)
    process = program.start("run", "waits", "--in", "dev", environ=ENVIRON)
    wait_for_a_kernel(jupyter)
    assert run(program, "works")["log"] == "fine"
    assert len(jupyter.ask("GET", "/api/kernels")) == 1
    process.send_signal(signal.SIGINT)
    process.wait()


def test_what_is_wrong_with_the_server_is_said(plain: Program, jupyter: Jupyter) -> None:
    program = at(plain, jupyter, 'kernel = "ghost"')
    notebook(program, "works", "print('fine')")
    said = program("doctor", environ=ENVIRON, code=None).text
    assert f"has no kernel ghost; it has {BARE}, python3" in said
    program.edit("environments/dev.toml", "ghost", BARE)
    said = program("doctor", environ=ENVIRON, code=None).text
    assert f"the kernel {BARE} of {jupyter.url} has no Inchworm, and runs have 0." in said
    program.edit("environments/dev.toml", f'kernel = "{BARE}"', "")
    assert "kernel python3" in program("doctor", environ=ENVIRON, code=None).text
    wrong = {**ENVIRON, "JUPYTER": "wrong"}
    said = program("status", "dev", environ=wrong, code=None).text
    assert "says 403" in said
    assert "Check [notebooks] token" in said
    program.edit("environments/dev.toml", f"jupyter+{jupyter.url}", jupyter.url)
    assert "must be jupyter+https://" in program("check", code=1).text


def test_it_cannot_be_reached(plain: Program, jupyter: Jupyter, tmp_path: Path) -> None:
    """What needs no notebook goes on, and the rest is told."""
    program = at(plain, jupyter)
    notebook(program, "works", "print('fine')")
    promote(program)
    program.edit("environments/dev.toml", f"jupyter+{jupyter.url}", "jupyter+http://127.0.0.1:9")
    assert (
        "cannot be reached" in program("run", "works", "--in", "dev", environ=ENVIRON, code=1).text
    )
    assert program("run", "mart.reading", "--in", "dev", environ=ENVIRON).code == 0
    told = program("status", "dev", environ=ENVIRON, code=1).text
    assert "starter-0.1.0-" in told
    assert "nothing is known of its notebooks" in told
    status = program("status", "dev", "--json", environ=ENVIRON, code=1).json["environments"][0]
    assert "cannot be reached" in status["notebooks_unreachable"]
    assert status["drifted_parts"] == []


def test_its_kernel_is_asked_what_is_installed(plain: Program, jupyter: Jupyter) -> None:
    program = at(plain, jupyter)
    notebook(program, "works", "print('fine')")
    program.write("library/tools/pyproject.toml", '[project]\ndependencies = ["ipykernel>=1"]\n')
    promote(program)
    program.write("library/tools/pyproject.toml", '[project]\ndependencies = ["riverscience"]\n')
    said = promote(program, code=1)
    assert "needs riverscience, and the kernel python3 of http://127.0.0.1" in said


def test_notebooks_move_there_and_the_way_back_stays_open(plain: Program, jupyter: Jupyter) -> None:
    """Bundles from before do not know the parameters that the environment's file has now."""
    program = plain
    notebook(program, "works", "print('fine')")
    promote(program)
    with closing(connect_service("sim:dev", program.folder, None, None)) as workspace:
        assert [str(part) for part in workspace.items() if "notebook" in part] == ["notebook:works"]
        at(program, jupyter)
        program.write("models/mart/other.sql", "SELECT 1 AS n")
        promote(program)
        assert [str(part) for part in workspace.items() if "notebook" in part] == []
    (step,) = [
        s
        for s in program("history", "P2", "--json", environ=ENVIRON).json["steps"]
        if s["part"] == "notebook:works"
    ]
    assert (step["action"], step["reason"]) == ("add", "is not at the notebook server")
    assert run(program, "works")["log"] == "fine"
    program("rollback", "dev", "--yes", environ=ENVIRON)
    assert run(program, "works")["log"] == "fine"
    assert "mart.other" not in program("status", "dev", environ=ENVIRON).text


def test_what_people_leave_in_the_folder_is_in_nobodys_way(
    plain: Program, jupyter: Jupyter
) -> None:
    """Files that are no notebooks, or are called as no part can be; but ours has to be one."""
    program = at(plain, jupyter)
    notebook(program, "works", "print('fine')")
    promote(program)
    folder = jupyter.folder / FOLDER
    (folder / "broken.ipynb").write_text("no JSON")
    (folder / "empty.ipynb").write_text("")
    (folder / "a:b#c.ipynb").write_bytes((folder / "works.ipynb").read_bytes())
    program("drift", "dev", environ=ENVIRON)
    assert run(program, "works")["log"] == "fine"
    assert "nothing to do" in promote(program)
    (folder / "works.ipynb").write_text("no JSON")
    said = program("drift", "dev", environ=ENVIRON, code=1).text
    assert "what is there cannot be read as a notebook" in said
    assert "left out notebook" in program("adopt", "dev", "notebook:works", environ=ENVIRON).text
    bundle = program("pack", "--json", environ=ENVIRON).json["bundle"]
    program("promote", bundle, "--to", "dev", "--yes", "--overwrite", environ=ENVIRON)
    program("drift", "dev", environ=ENVIRON)
