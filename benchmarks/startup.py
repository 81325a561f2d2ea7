"""How long commands take from start to end, beside a Python that imports click alone.

Run it with ``python benchmarks/startup.py``. It writes the demo's project into a temporary folder,
promotes it into development, and runs each command several times in turn with the other side.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

from processes import PROGRAM, beside_click, measured

RUNS = 11
WRITE_SCENARIO = """
import sys
from pathlib import Path
from inchworm.demo.day import write_scenario
write_scenario(Path(sys.argv[1]), lambda line: None)
"""
"""In a process of its own: a child's memory is told as no less than that of who started it."""
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


def main() -> None:
    """Print a line per command: both medians, the ratio, and the memory of ours."""
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / "riverwatch"
        subprocess.run([sys.executable, "-c", WRITE_SCENARIO, str(folder)], check=True)
        for first in (("pack",), COMMANDS[-1], ("check",)):
            measured((*PROGRAM, *first), folder)
        print(f"{'':50}{'inchworm':>10}{'click':>10}{'ratio':>10}{'memory':>11}")
        for command in COMMANDS:
            beside_click(" ".join(command), (*PROGRAM, *command), folder, RUNS)


if __name__ == "__main__":
    main()
