"""Whole processes, timed beside a Python that imports click alone.

An installer compiles a package to bytecode when it installs it. A source tree under
``PYTHONDONTWRITEBYTECODE`` would compile itself at every start, and click, which was installed,
would not: so the package is compiled once, here, before anything is timed.
"""

from __future__ import annotations

import compileall
import os
import statistics
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from pathlib import Path

import inchworm

RUNS = 5
PROGRAM = (sys.executable, "-m", "inchworm")
CLICK = (sys.executable, "-c", "import click")
ENVIRON = {**os.environ, "INCHWORM_USER": "lena", "NO_COLOR": "1"}

compileall.compile_dir(Path(inchworm.__file__).parent, quiet=1)


def trusted(folder: Path) -> dict[str, str]:
    """The environment variables of a process, to which the project in a folder is trusted."""
    return {**ENVIRON, "INCHWORM_TRUST": str(folder.resolve())}


def measured(command: Sequence[str], folder: Path) -> tuple[float, float, str]:
    """Seconds and megabytes of a process, and what it printed; its outcome must be success."""
    started = time.perf_counter()
    process = subprocess.Popen(
        command,
        cwd=folder,
        env=trusted(folder),
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
    )
    assert process.stdout is not None
    printed = process.stdout.read()
    _, status, usage = os.wait4(process.pid, 0)
    took = time.perf_counter() - started
    if status != 0:
        raise SystemExit(f"{' '.join(command)} ended with {status}:\n{printed[-2000:]}")
    return took, usage.ru_maxrss / 1024, printed


def beside_click(
    what: str,
    command: Sequence[str],
    folder: Path,
    runs: int = RUNS,
    before: Callable[[], None] = lambda: None,
) -> None:
    """Print the medians of a command and of click, in turn, and their ratio.

    Args:
        what: what the line says.
        command: the command.
        folder: where it runs.
        runs: how often.
        before: done before each run of the command, and not timed.
    """
    pairs = []
    for _ in range(runs):
        before()
        pairs.append((measured(command, folder), measured(CLICK, folder)))
    ours = statistics.median(pair[0][0] for pair in pairs)
    click = statistics.median(pair[1][0] for pair in pairs)
    memory = max(pair[0][1] for pair in pairs)
    print(f"{what:50}{ours:8.2f} s{click:8.3f} s{ours / click:8.1f} x{memory:8.0f} MB", flush=True)
