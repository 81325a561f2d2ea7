"""Libraries: a wheel of each, and what they need where notebooks run."""

from __future__ import annotations

import json
import subprocess
import sys

import pytest

from tests.driver import Program

PROJECT = '[project]\nrequires-python = "{python}"\ndependencies = ["{package}"]\n'


def needs(program: Program, package: str = "pandas>=1", python: str = ">=3.8") -> None:
    """A library that needs a package."""
    program.write("library/tools/__init__.py", "def double(n):\n    return 2 * n\n")
    program.write("library/tools/data/more.py", "factor = 3\n")
    program.write("library/tools/pyproject.toml", PROJECT.format(package=package, python=python))


def test_pip_installs_the_wheel(plain: Program) -> None:
    """The same bundle gives the same wheel; a library without needs has one, too."""
    program = plain
    needs(program)
    program.write("library/other/__init__.py", "")
    packed = program("pack", "--json").json
    other, wheel = packed["wheels"]
    digest = packed["bundle"].rpartition(".")[2]
    assert wheel == f".inchworm/bundles/tools-0.1.0+snapshot.{digest}-py3-none-any.whl"
    assert other.startswith(".inchworm/bundles/other-0.1.0+")
    assert f"wheel {wheel}" in program("pack").text
    content = (program.folder / wheel).read_bytes()
    program("pack")
    assert (program.folder / wheel).read_bytes() == content
    target = program.folder / "site"
    pip = [sys.executable, "-m", "pip", "install", "--quiet", "--no-deps", "--no-index"]
    subprocess.run([*pip, "--target", str(target), str(program.folder / wheel)], check=True)
    said = subprocess.run(
        [sys.executable, "-c", "import tools, tools.data.more as m; print(tools.double(m.factor))"],
        env={"PYTHONPATH": str(target)},
        capture_output=True,
        text=True,
        check=True,
    )
    assert said.stdout == "6\n"
    assert not (target / "tools/pyproject.toml").exists()


@pytest.mark.parametrize(
    ("package", "python", "says"),
    [
        ("riverscience>=2", ">=3.8", "needs riverscience>=2, and the Python in which runs are"),
        ("pandas>=999", ">=3.8", "has pandas "),
        ("pandas", "<3", "needs Python <3, and the Python in which runs are started is 3."),
    ],
)
def test_what_is_not_installed_stops_the_draft(
    plain: Program, package: str, python: str, says: str
) -> None:
    """Before anything runs; with the file to correct."""
    program = plain
    needs(program, package, python)
    refused = program.promote(program.pack(), "dev", code=1).json
    (finding,) = [f for f in refused["findings"] if f["severity"] == "error"]
    assert finding["rule"] == "library/missing-package"
    assert says in finding["message"]
    assert finding["file"] == "library/tools/pyproject.toml"


def test_what_is_installed_or_not_needed_here_is_no_matter(plain: Program) -> None:
    needs(plain)
    plain.promote(plain.pack(), "dev")
    marked = 'riverscience; sys_platform == \\"plan9\\"'
    needs(plain, marked)
    plain.promote(plain.pack(), "dev")


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ('[project]\ndependencies = ["pandas", "no such >> thing"]\n', "is no requirement"),
        ('[project]\ndependencies = "pandas"\n', "is not a list"),
        ('[project]\nrequires-python = "three"\n', "says no versions"),
        ("project = 3\n", "is not a table"),
        ("[project\n", "pyproject.toml"),
    ],
)
def test_what_is_written_wrongly_is_found_at_check(plain: Program, text: str, says: str) -> None:
    plain.write("library/tools/__init__.py", "")
    plain.write("library/tools/pyproject.toml", text)
    (finding,) = [f for f in plain.findings(code=1) if f["severity"] == "error"]
    assert finding["file"] == "library/tools/pyproject.toml"
    assert says in f"{finding['message']} {finding['file']}"


def test_a_module_that_is_not_installed_stops_the_draft(plain: Program) -> None:
    """Imported by a notebook or a library; Python's own, ours, and what is tried are no matter."""
    plain.write(
        "library/tools/__init__.py",
        "import json, no_such_tool.parts\nfrom . import more\n"
        "try:\n    import no_such_speedup\nexcept ImportError:\n    no_such_speedup = None\n",
    )
    plain.write("library/tools/more.py", "import pandas\n")
    source = "import tools\nfrom inchworm.notebook import env\nimport no_such_chart as chart"
    cell = {"cell_type": "code", "id": "a", "metadata": {}, "outputs": [], "source": source}
    document = {"cells": [cell | {"execution_count": None}], "metadata": {}}
    text = json.dumps(document | {"nbformat": 4, "nbformat_minor": 5}, indent=1)
    plain.write("notebooks/look.ipynb", text)
    refused = plain.promote(plain.pack(), "dev", code=1).json
    missing = [f for f in refused["findings"] if f["rule"] == "notebook/missing-module"]
    assert {(f["part"], f["message"].partition(",")[0]) for f in missing} == {
        ("library:tools", "imports no_such_tool"),
        ("notebook:look", "imports no_such_chart"),
    }
    assert {f["file"] for f in missing} == {"library/tools/__init__.py", "notebooks/look.ipynb"}
