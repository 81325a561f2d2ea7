"""How long commands take from start to end, beside a Python that imports click alone.

Run it with ``python benchmarks/startup.py``. It writes the demo's project into a temporary folder,
promotes it into development, and runs each command several times in turn with the other side.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path

from inchworm.demo.day import write_scenario

RUNS = 11
BUNDLE = "riverwatch-1.4.0"
COMMANDS: tuple[tuple[str, ...], ...] = (
    ("--version",),
    ("check",),
    ("history",),
    ("bundles",),
    ("pack",),
    ("status",),
    ("promote", BUNDLE, "--to", "dev", "--yes"),
)
CLICK = (sys.executable, "-c", "import click")


def seconds(command: Sequence[str], folder: Path) -> float:
    """How long a process takes; its outcome must be success."""
    started = time.perf_counter()
    environ = {**os.environ, "INCHWORM_USER": "lena", "NO_COLOR": "1"}
    subprocess.run(command, cwd=folder, env=environ, check=True, capture_output=True)
    return time.perf_counter() - started


def main() -> None:
    """Print a line per command: both medians, and the ratio."""
    program = (sys.executable, "-m", "inchworm")
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / "riverwatch"
        write_scenario(folder, lambda line: None)
        for first in (("pack",), COMMANDS[-1], ("check",)):
            seconds((*program, *first), folder)
        print(f"{'':42}{'inchworm':>12}{'click':>12}{'ratio':>10}")
        for command in COMMANDS:
            pairs = [
                (seconds((*program, *command), folder), seconds(CLICK, folder)) for _ in range(RUNS)
            ]
            ours = statistics.median(pair[0] for pair in pairs)
            click = statistics.median(pair[1] for pair in pairs)
            print(f"{' '.join(command):42}{ours:10.3f} s{click:10.3f} s{ours / click:8.1f} x")


if __name__ == "__main__":
    main()
