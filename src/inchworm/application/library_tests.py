"""The tests of a project's libraries, which have to pass before anything is packed."""

from __future__ import annotations

import hashlib
import shlex
import sys
from pathlib import Path

from inchworm.application.workplace import KEPT, Workplace
from inchworm.core.errors import UsageError
from inchworm.core.parts import LIBRARY_TESTS
from inchworm.engine.asking import ask
from inchworm.store.remembered_values import Remembering, recall, remember

_PASSED = f"{KEPT}/library_tests_passed"
_SECONDS = 600.0
"""How long all tests may take."""
_NO_TESTS = 5
"""The exit code of pytest where it finds none."""


def check_libraries(workplace: Workplace) -> None:
    """Run the tests of the libraries with pytest, unless they passed with just these files.

    Raises:
        UsageError: when one fails, when there are none in the folder, or pytest is not installed.
    """
    root = workplace.root
    folder = root / LIBRARY_TESTS
    if not folder.is_dir():
        return
    digest = _digest(root / "library")
    place = Remembering(root, workplace.machine.sealer)
    if recall(place, _PASSED, digest, str) == digest:
        return
    workplace.machine.trust.demand(f"run the tests in {LIBRARY_TESTS}")
    command = [sys.executable, "-m", "pytest", str(folder), "-q", "--tb=short"]
    command += ["-p", "no:cacheprovider", "--import-mode=importlib", f"--rootdir={folder}"]
    environ = {
        **workplace.machine.environ,
        "PYTHONPATH": str(root / "library"),
        "PYTHONDONTWRITEBYTECODE": "1",
    }
    answer = ask(shlex.join(command), "", root, environ, _SECONDS)
    if answer.code == 0:
        remember(place, _PASSED, digest, digest)
        return
    if "No module named pytest" in answer.text:
        raise UsageError(
            "The libraries have tests, and pytest is not installed here.",
            where=LIBRARY_TESTS,
            next="pip install pytest",
        )
    what = "has no tests" if answer.code == _NO_TESTS else f"fails: {answer.text}"
    raise UsageError(
        f"{LIBRARY_TESTS} {what}.",
        where=LIBRARY_TESTS,
        next="See all of it: PYTHONPATH=library python -m pytest library/tests",
    )


def _digest(folder: Path) -> str:
    """Of every Python file of the libraries and their tests, and of the Python that runs them."""
    digest = hashlib.sha256(sys.version.encode())
    for path in sorted(
        p for p in folder.rglob("*") if p.is_file() and "__pycache__" not in p.parts
    ):
        name, content = str(path.relative_to(folder)), path.read_bytes()
        digest.update(f"{name}\0{len(content)}\0".encode() + content)
    return digest.hexdigest()
