"""What the core and the program's start may import."""

from __future__ import annotations

import subprocess
import sys

FORBIDDEN = {
    *("click", "rich", "urllib3", "starlette", "uvicorn", "sqlalchemy", "sqlite3", "duckdb"),
    *("filelock", "pandas", "numpy", "nbformat", "openapi_spec_validator"),
}

IMPORT_CORE = """
import importlib, pkgutil, sys
import inchworm.core
for module in pkgutil.walk_packages(inchworm.core.__path__, "inchworm.core."):
    importlib.import_module(module.name)
print(" ".join(sys.modules))
"""


def modules(*arguments: str) -> set[str]:
    done = subprocess.run([sys.executable, *arguments], capture_output=True, text=True, check=True)
    return set((done.stdout + done.stderr).split())


def test_the_core_reaches_nothing() -> None:
    """No interface, network, storage or database comes in, not even through a library."""
    assert modules("-c", IMPORT_CORE) & FORBIDDEN == set()


def test_the_version_is_printed_by_click_alone() -> None:
    """Starting must not wait for anything heavy."""
    loaded = modules("-X", "importtime", "-m", "inchworm", "--version")
    heavy = FORBIDDEN - {"click"} | {"sqlglot", "pydantic", "yaml"}
    assert "click" in loaded
    assert loaded & heavy == set()
