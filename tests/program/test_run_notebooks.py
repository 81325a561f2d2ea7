"""Notebooks that a run executes: what they store, and every way in which one can go wrong."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from contextlib import suppress
from pathlib import Path
from typing import Any

import nbformat
import pytest

from tests.driver import Program

SECRET = 'sesame "42" ünlocked'
STORE = (
    "from inchworm.notebook import env\nimport pandas as pd\nfrom tools.sums import double",
    'seen = env.query("SELECT gauge, level FROM mart.reading WHERE level > :least")\n'
    "print(len(seen), 'rows seen')",
    'env.store("mart.kept", pd.DataFrame({"Gauge": [2, 3], "level": [double(1), None]}), '
    'key=["Gauge"], columns={"Gauge": "INTEGER", "level": "INTEGER"})',
    'env.store("mart.whole", seen, columns={"gauge": "INTEGER", "level": "INTEGER"})\n'
    'env.measure("seen", len(seen))\n'
    'len(env.table("mart.whole"))',
)


def notebook(program: Program, name: str, *cells: str) -> None:
    """Write a notebook whose cells are numbered from 1."""
    document = nbformat.v4.new_notebook(cells=[nbformat.v4.new_code_cell(c) for c in cells])
    for number, cell in enumerate(document.cells):
        cell.id = f"cell{number}"
    program.write(f"notebooks/{name}.ipynb", nbformat.writes(document))


def project(program: Program) -> None:
    matrix = (program.folder / "parameters.toml").read_text()
    program.write(
        "parameters.toml",
        f'{matrix}\n[least]\ntype = "integer"\nevery = 5\n'
        '[password]\ntype = "secret"\nevery = "env:DOOR"\n',
    )
    program.write(
        "models/mart/reading.sql",
        '/*---\nstore = "table"\n---*/\nSELECT 1 AS gauge, 4 AS level UNION ALL SELECT 2, 9\n',
    )
    program.write("library/tools/__init__.py", "")
    program.write("library/tools/sums.py", "def double(n):\n    return 2 * n\n")


def run(program: Program, name: str, *options: str, code: int | None = 0) -> dict[str, Any]:
    """The last line of a run."""
    environ = {"DOOR": SECRET}
    answer = program("run", name, "--in", "dev", "--json", *options, code=code, environ=environ)
    ended: dict[str, Any] = json.loads(answer.out.splitlines()[-1])
    return ended


def promote(program: Program) -> None:
    environ = {"DOOR": SECRET}
    bundle = program("pack", "--json", environ=environ).json["bundle"]
    program("promote", bundle, "--to", "dev", "--yes", environ=environ)


def kept(program: Program, output: str) -> nbformat.NotebookNode:
    return nbformat.read(program.folder / ".inchworm/bundles/runs" / output, as_version=4)


@pytest.mark.long
def test_what_a_notebook_stores_goes_live_when_it_has_ended(anywhere: tuple[Program, str]) -> None:
    program, url = anywhere
    project(program)
    notebook(program, "store", *STORE)
    promote(program)
    (step,) = run(program, "store")["steps"]
    assert step["rows"] == 3
    assert step["measures"] == {"seen": 1}
    assert step["log"] == "1 rows seen"
    assert "mart.kept: 2 checks hold" in step["message"]
    assert program.ask(url, "SELECT * FROM mart.kept ORDER BY gauge") == [(2, 2), (3, None)]
    assert program.ask(url, "SELECT * FROM mart.whole") == [(2, 9)]
    executed = kept(program, step["output"])
    assert executed.cells[-1].outputs[0].data["text/plain"] == "1"

    notebook(program, "store", *STORE[:2], STORE[2].replace("[2, 3]", "[3, 4]"), STORE[3])
    promote(program)
    run(program, "store")
    look_at_measures(program)
    rows = program.ask(url, "SELECT * FROM mart.kept ORDER BY gauge")
    assert rows == [(2, 2), (3, 2), (4, None)], "rows with other keys stay"
    assert program("drift", "dev").code == 0


def look_at_measures(program: Program) -> None:
    """What two runs measured, compared, listed, drawn; and one of them as a page."""
    assert "notebook:store seen 1 (R2)" in program("status", "--measures").text
    listed = program("history", "--measure", "seen", "--picture", "seen.svg", "--json").json
    assert [(m["run"], m["value"]) for m in listed["measures"]] == [("R1", 1.0), ("R2", 1.0)]
    assert "seen of notebook:store" in (program.folder / "seen.svg").read_text()
    assert "Did you mean seen?" in program("history", "--measure", "sen", code=2).text
    program("history", "R2", "--notebook", "store", "--html", "page.html")
    page = (program.folder / "page.html").read_text()
    assert "1 rows seen" in page
    assert not re.search(r"""(src|href)=["']?(https?:)?//""", page), "nothing comes from elsewhere"
    assert (
        "executed no notebook"
        in program("history", "R2", "--notebook", "other", "--html", "page.html", code=2).text
    )


BAD = {
    "fails": (
        "from inchworm.notebook import env",
        'secret = env.value("password")\nprint("told", secret)\n'
        "raise ValueError(f'not with {secret}')",
    ),
    "dies": ("import os, signal", "os.kill(os.getpid(), signal.SIGKILL)"),
    "never_ends": (
        "import subprocess, time\nsubprocess.Popen(['sleep', '987654'])",
        "while True:\n    time.sleep(0.1)",
    ),
    "has_no_time": ("import time\ntime.sleep(600)",),
    "is_greedy": ("rows = bytearray(900_000_000)",),
    "looks_around": (
        "import os\nassert 'DOOR' not in os.environ\nassert len(os.sched_getaffinity(0)) == 1",
        "for _ in range(20_000):\n    print('x' * 1000)",
    ),
    "repeats": (
        "from inchworm.notebook import env\nimport pandas as pd",
        'env.store("mart.twice", pd.DataFrame({"n": [1, 1]}), key=["n"], columns={"n": "INTEGER"})',
    ),
    "asks_wrongly": (
        "import uuid\nfrom inchworm.notebook import env",
        "env.value(uuid.uuid4().hex)",
    ),
}
LIMITS = {
    "has_no_time": 'timeout = "1s"',
    "never_ends": 'timeout = "4s"',
    "is_greedy": 'memory = "700 MB"',
    "looks_around": "threads = 1",
}


@pytest.fixture(scope="module")
def gone_wrong(tmp_path_factory: pytest.TempPathFactory) -> tuple[Program, dict[str, Any]]:
    """A run of a pipeline with everything that a notebook can do wrong, and how its steps ended."""
    from inchworm.application.starting import start_project

    folder = tmp_path_factory.mktemp("wrong") / "starter"
    start_project(folder, "starter", "duckdb")
    program = Program(folder)
    project(program)
    steps = ""
    for name, cells in BAD.items():
        notebook(program, name, *cells)
        steps += f'[[steps]]\nname = "{name}"\nnotebook = "{name}"\n{LIMITS.get(name, "")}\n'
    program.write("pipelines/wrong.toml", steps)
    promote(program)
    ended = run(program, "wrong", code=5)
    return program, {step["stage"]: step for step in ended["steps"]}


def test_a_kernel_that_dies_leaves_no_traceback(
    gone_wrong: tuple[Program, dict[str, Any]],
) -> None:
    program, _ = gone_wrong
    output = program.process("run", "dies", "--in", "dev", code=1)
    assert "its kernel died in cell 2" in output.text
    assert output.err == ""


def test_a_failing_cell_is_named_with_its_line_and_no_secret(
    gone_wrong: tuple[Program, dict[str, Any]],
) -> None:
    program, steps = gone_wrong
    step = steps["fails"]
    assert step["state"] == "failed"
    assert "failed in cell 2, line 3 (raise ValueError" in step["message"]
    assert "ValueError: not with (secret)" in step["message"]
    assert "raise ValueError" in step["log"]
    executed = kept(program, step["output"])
    assert executed.cells[1].outputs[0].text == "told (secret)\n"
    everything = b"".join(
        file.read_bytes() for file in Path(program.folder).rglob("*") if file.is_file()
    )
    for spelled in (SECRET, json.dumps(SECRET)[1:-1], json.dumps(SECRET, ensure_ascii=False)[1:-1]):
        assert spelled.encode() not in everything


@pytest.mark.parametrize(
    ("name", "words"),
    [
        ("dies", "its kernel died in cell 2"),
        ("never_ends", "took longer than 4 s, and was ended"),
        ("has_no_time", "took longer than 1 s, and was ended"),
        ("is_greedy", "MemoryError"),
        ("repeats", "n is unique: 1 row not"),
        ("asks_wrongly", "failed in cell 2, line 1"),
    ],
)
def test_what_went_wrong_is_said(
    gone_wrong: tuple[Program, dict[str, Any]], name: str, words: str
) -> None:
    _, steps = gone_wrong
    assert steps[name]["state"] == "failed"
    assert words in steps[name]["message"]
    assert steps[name]["output"].startswith(tuple("0123456789abcdef"))


def test_a_notebook_is_alone_and_says_no_more_than_is_kept(
    gone_wrong: tuple[Program, dict[str, Any]],
) -> None:
    program, steps = gone_wrong
    step = steps["looks_around"]
    assert step["state"] == "done"
    text = "".join(o.text for o in kept(program, step["output"]).cells[1].outputs)
    assert len(text) < 1_100_000
    assert "... cut off: more than 1,000,000 characters" in text
    assert len(step["log"]) <= 20_000


def test_nothing_of_it_goes_on_or_goes_live(gone_wrong: tuple[Program, dict[str, Any]]) -> None:
    program, _ = gone_wrong
    assert not sleeping()
    assert program.query("dev", "SELECT count(*) FROM mart.twice") == [(0,)]
    assert program.query("dev", "SELECT * FROM inchworm.aside") == []


def sleeping() -> list[str]:
    """The processes that the notebook which never ends has started."""
    found = []
    for process in Path("/proc").glob("[0-9]*"):
        with suppress(OSError):  # it has just ended
            if b"987654" in (process / "cmdline").read_bytes():
                found.append(process.name)
    return found


def test_libraries_are_there_at_a_desk_too(starter: Program) -> None:
    project(starter)
    (starter.folder / "notebooks").mkdir(exist_ok=True)
    code = "from inchworm.notebook import env\nfrom tools.sums import double\nprint(double(4))"
    done = subprocess.run(
        [sys.executable, "-c", code],
        cwd=starter.folder / "notebooks",
        env=starter.environ,
        capture_output=True,
        text=True,
        check=True,
    )
    assert done.stdout == "8\n"


def test_rows_go_live_also_where_the_notebook_cannot_be_kept(starter: Program) -> None:
    project(starter)
    notebook(starter, "store", *STORE)
    promote(starter)
    (starter.folder / ".inchworm/bundles/runs").write_text("in the way")
    (step,) = run(starter, "store")["steps"]
    assert step["output"] == ""
    assert "it is not kept: " in step["log"]
    assert starter.query("dev", "SELECT * FROM mart.whole") == [(2, 9)]


def test_a_cell_that_is_meant_to_raise_is_not_the_one_that_failed(plain: Program) -> None:
    """By the tag that the format of notebooks has for it."""
    program = plain
    project(program)
    cells = [nbformat.v4.new_code_cell(c) for c in ("raise ValueError('meant')", "1 / 0")]
    cells[0].metadata["tags"] = ["raises-exception"]
    program.write("notebooks/raises.ipynb", nbformat.writes(nbformat.v4.new_notebook(cells=cells)))
    promote(program)
    (step,) = run(program, "raises", code=1)["steps"]
    assert "failed in cell 2, line 1 (1 / 0): ZeroDivisionError" in step["message"]


@pytest.mark.long
def test_files_are_kept_with_the_run(plain: Program) -> None:
    """A trained model, say; not one that has a secret in it."""
    project(plain)
    notebook(
        plain,
        "train",
        "from inchworm.notebook import env\nfrom pathlib import Path\n"
        "Path('deep').mkdir()\nPath('deep/model.bin').write_bytes(bytes(range(256)))\n"
        "env.keep('deep/model.bin')",
        "Path('told.txt').write_text(env.value('password'))\n"
        "try:\n    env.keep('told.txt')\nexcept Exception as error:\n    print('refused:', error)",
        "try:\n    env.keep('none.txt')\nexcept Exception as error:\n    print('missing:', error)",
    )
    promote(plain)
    (step,) = run(plain, "train")["steps"]
    assert step["message"] == "kept model.bin"
    assert "refused: told.txt has a secret in it" in step["log"]
    assert "missing: There is no file none.txt to keep" in step["log"]
    assert "--kept model.bin --into FILE" in plain("history", "R1").text
    plain("history", "R1", "--kept", "model.bin", "--into", "got.bin")
    assert (plain.folder / "got.bin").read_bytes() == bytes(range(256))
    wrong = plain("history", "R1", "--kept", "modle.bin", "--into", "x.bin", code=2)
    assert "Did you mean model.bin?" in wrong.text
